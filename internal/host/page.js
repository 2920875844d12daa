// Reads the page again whenever the host says that something changed.
const source = new EventSource("/api" + location.pathname + "/events");
source.onmessage = async () => {
  const answer = await fetch(location.href);
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  document.querySelector("main").replaceWith(page.querySelector("main"));
};
source.onerror = () => {
  document.body.classList.add("gone");
  const live = document.querySelector(".live");
  if (live) live.textContent = live.dataset.gone;
};
source.onopen = () => document.body.classList.remove("gone");
