package host

import (
	"context"
	"embed"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/proposal"
	"dorvik.dev/dorvik/internal/vcs"
	"dorvik.dev/dorvik/internal/visible"
	"dorvik.dev/dorvik/internal/words"
)

//go:embed page.html front.html page.css page.js
var web embed.FS

var templates = template.Must(template.ParseFS(web, "page.html", "front.html"))

// The page's own files and the host itself are all that a page may load.
const policy = "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'"

// mostShown limits how many commits and how many ended proposals a page shows.
const (
	mostShown = 12
	mostEnded = 6
)

// shown is what the page shows.
type shown struct {
	Name, Clone string
	Sentence    string // where the branch is,
	Waits       string // and how many proposals wait
	Waiting     []waiting
	Commits     []shownCommit
	Ended       []string
	Rules       []string
	People      string
	Branches    []string
	Chart       chart
	Check       hostapi.Check
}

// waiting is a proposal that waits.
type waiting struct {
	Number             int
	Title, Wish, Facts string
	Outcome            string
	Joins              bool
	Says               []string // clashes and misfits
	Check              hostapi.Check
	base               object.ID // where it parts from the branch
}

// shownCommit is a commit of the branch.
type shownCommit struct {
	ID, Title, By string
	id            object.ID
}

// front lists the repositories.
func (h *Host) front(w http.ResponseWriter, _ *http.Request) {
	h.render(w, "front.html", h.settings.Repositories)
}

// render writes a page.
func (h *Host) render(w http.ResponseWriter, name string, data any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", policy)
	if err := templates.ExecuteTemplate(w, name, data); err != nil {
		fmt.Fprintf(w, "The page cannot be shown: %s", template.HTMLEscapeString(err.Error()))
	}
}

// showPage shows a repository: its branch, its history, and the proposals as they would join.
func (h *Host) showPage(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("repository")
	if file, err := web.ReadFile(name); err == nil && !strings.HasSuffix(name, ".html") {
		w.Header().Set("Content-Type", map[bool]string{true: "text/css", false: "text/javascript"}[strings.HasSuffix(
			name,
			".css")])
		_, _ = w.Write(file)
		return
	}
	if _, ok := h.repository(name); !ok {
		http.NotFound(w, r)
		return
	}
	p, err := h.read(r.Context(), name)
	if err != nil {
		http.Error(w, "The repository cannot be read: "+err.Error(), http.StatusInternalServerError)
		return
	}
	h.render(w, "page.html", p)
}

// events tells an open page whenever something changed.
func (h *Host) events(w http.ResponseWriter, r *http.Request) {
	flusher, ok := w.(http.Flusher)
	name := r.PathValue("repository")
	if _, known := h.repository(name); !ok || !known {
		http.NotFound(w, r)
		return
	}
	page := make(chan struct{}, 1)
	h.mu.Lock()
	h.pages[page] = name
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		delete(h.pages, page)
		h.mu.Unlock()
	}()
	w.Header().Set("Content-Type", "text/event-stream")
	fmt.Fprint(w, ": here\n\n")
	flusher.Flush()
	for {
		select {
		case <-page:
			fmt.Fprint(w, "data: changed\n\n")
			flusher.Flush()
		case <-r.Context().Done():
			return
		case <-h.ended:
			return
		}
	}
}

// read reads a repository and computes what joining each proposal asks.
func (h *Host) read(ctx context.Context, name string) (*shown, error) {
	set, _ := h.repository(name)
	repo := git.Bare(h.path(name))
	defer repo.Close()
	store := object.NewOverlay(repo.Format, repo)
	p := &shown{Name: name, Clone: h.Address() + "/" + name + ".git"}
	api, err := h.Show(ctx, name)
	if err != nil {
		return nil, err
	}
	branch := "main"
	if len(set.Rules.Protected) > 0 {
		branch = set.Rules.Protected[0]
	}
	at, err := repo.Ref(ctx, "refs/heads/"+branch)
	if err != nil {
		return nil, err
	}
	if p.Commits, err = firstParents(ctx, store, at); err != nil {
		return nil, err
	}
	list, err := h.List(name)
	if err != nil {
		return nil, err
	}
	board := proposal.New(repo, plan.New(store, repo))
	for _, one := range slices.Backward(list) {
		switch {
		case one.State == hostapi.Waiting:
			w, err := forecast(ctx, board, store, &one)
			if err != nil {
				return nil, err
			}
			p.Waiting = append(p.Waiting, *w)
		case len(p.Ended) < mostEnded:
			p.Ended = append(p.Ended, fmt.Sprintf("%d  %s, by %s: %s", one.Number, visible.Lines(one.Title), one.By,
				one.State))
		}
	}
	for _, b := range api.Branches {
		if b.Name == branch {
			p.Check = b.Check
		} else {
			p.Branches = append(p.Branches, b.Name)
		}
	}
	p.say(branch, h.settings.People, set)
	p.Chart = p.draw()
	return p, nil
}

// firstParents lists the newest commits of a branch.
func firstParents(ctx context.Context, store *object.Overlay, at object.ID) (out []shownCommit, err error) {
	for !at.IsZero() && len(out) < mostShown {
		c, err := store.Commit(ctx, at)
		if err != nil {
			return nil, err
		}
		n := history.Node{ID: at, Commit: c}
		out = append(out, shownCommit{at.Prefix(7), visible.Lines(n.Subject()),
			n.Author().Name + ", " + words.Ago(time.Now(), n.Author().Time()), at})
		if at = (object.ID{}); len(c.Parents) > 0 {
			at = c.Parents[0]
		}
	}
	return out, nil
}

// forecast computes what joining a proposal asks.
func forecast(ctx context.Context, board *proposal.Board, store *object.Overlay, one *hostapi.Proposal) (*waiting,
	error) {
	w := &waiting{Number: one.Number, Title: visible.Lines(one.Title), Check: one.Check,
		Facts: one.By + ", " + words.Ago(time.Now(), one.Opened)}
	w.Wish = one.From + " → " + one.Into
	if one.Fork != "" {
		w.Wish = one.Fork + ": " + w.Wish
	}
	tip, err := object.ParseID(one.Tip)
	if err != nil {
		return nil, err
	}
	p := proposal.Proposal{Name: fmt.Sprint(one.Number), Into: vcs.Line{Name: one.Into, Ref: "refs/heads/" + one.Into},
		Last: history.Node{ID: tip}}
	if p.Last.Commit, err = store.Commit(ctx, tip); err != nil {
		return nil, err
	}
	if p.At, err = board.Repo.Ref(ctx, p.Into.Ref); err != nil {
		return nil, err
	}
	d, err := history.Diverge(ctx, store, p.At, tip)
	if err != nil {
		return nil, err
	}
	if len(d.Bases) > 0 {
		w.base = d.Bases[0]
	}
	err = board.Forecast(ctx, []proposal.Proposal{p}, func(_ int, f proposal.Forecast) {
		w.Outcome, w.Joins = words.Upper(f.Outcome()), f.Joins() && len(f.Misfits) == 0
		if len(f.Clashes) > 0 {
			w.Says = append(w.Says, "Both changed "+words.List(words.Some(f.Clashes, 3))+".")
		}
		for _, m := range f.Misfits {
			w.Says = append(w.Says, visible.Lines(m))
		}
	})
	return w, err
}

// say writes the page's sentences.
func (p *shown) say(branch string, people []hostapi.Person, set *hostapi.RepositorySettings) {
	stuck := 0
	for _, w := range p.Waiting {
		if !w.Joins {
			stuck++
		}
	}
	p.Sentence = fmt.Sprintf("%s has no commit yet.", branch)
	if len(p.Commits) > 0 {
		p.Sentence = fmt.Sprintf("%s is at %s, “%s”.", branch, p.Commits[0].ID, p.Commits[0].Title)
	}
	switch n := len(p.Waiting); {
	case n == 0:
		p.Waits = "No proposal waits."
	case stuck == 0:
		p.Waits = fmt.Sprintf("%s; all of them join.", words.Count(n, "proposal waits", "proposals wait"))
	default:
		p.Waits = fmt.Sprintf("%s; %s not join as %s.", words.Count(n, "proposal waits", "proposals wait"),
			words.Count(stuck, "does", "do"), words.Is(stuck, "it is", "they are"))
	}
	if set.Rules.Check != "" {
		p.Rules = append(p.Rules, "It takes only what passes “"+set.Rules.Check+"”.")
	}
	if len(set.Rules.Protected) > 0 {
		p.Rules = append(p.Rules, words.List(
			set.Rules.Protected)+" is protected: maintainers push there, all others put "+
			"proposals forward.")
	}
	var names []string
	for _, one := range people {
		if slices.Contains(set.Rules.Maintainers, one.User) {
			names = append(names, one.Name)
		}
	}
	p.People = "Maintained by " + words.List(names) + "."
}
