package host

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/reflock"
	"dorvik.dev/dorvik/internal/vcs"
)

// largestRequest limits the JSON that a request brings, in bytes.
const largestRequest = 64 << 10

// answer writes a JSON value, or an error as {"version": 1, "error": "…"}.
func answer(w http.ResponseWriter, status int, v any) {
	if err, ok := v.(error); ok {
		v = map[string]any{"version": 1, "error": err.Error()}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (h *Host) apiRepository(w http.ResponseWriter, r *http.Request) {
	out, err := h.Show(r.Context(), r.PathValue("repository"))
	if err != nil {
		answer(w, http.StatusNotFound, err)
		return
	}
	answer(w, http.StatusOK, out)
}

// Show returns what the host shows of a repository.
func (h *Host) Show(ctx context.Context, name string) (*hostapi.Repository, error) {
	repo, ok := h.repository(name)
	if !ok {
		return nil, fmt.Errorf("there is no repository %q here", name)
	}
	at := git.Bare(h.path(name))
	defer at.Close()
	names, err := at.Names(ctx)
	if err != nil {
		return nil, err
	}
	out := &hostapi.Repository{Version: 1, Name: name, Page: h.Page(name), Rules: repo.Rules}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range names {
		if branch, is := strings.CutPrefix(n.Full, "refs/heads/"); is {
			out.Branches = append(out.Branches, hostapi.Branch{Name: branch, Tip: n.Commit.String(),
				Protected: slices.Contains(repo.Rules.Protected, branch), Check: h.checks[n.Commit.String()]})
		}
	}
	return out, nil
}

// List returns the proposals of a repository, oldest first, with their checks.
func (h *Host) List(repository string) ([]hostapi.Proposal, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	list, err := h.proposals(repository)
	for i := range list {
		list[i].Check = h.checks[list[i].Tip]
	}
	return list, err
}

func (h *Host) apiProposals(w http.ResponseWriter, r *http.Request) {
	if _, ok := h.repository(r.PathValue("repository")); !ok {
		answer(w, http.StatusNotFound, fmt.Errorf("there is no repository %q here", r.PathValue("repository")))
		return
	}
	list, err := h.List(r.PathValue("repository"))
	if err != nil {
		answer(w, http.StatusInternalServerError, err)
		return
	}
	answer(w, http.StatusOK, hostapi.List{Version: 1, Proposals: append([]hostapi.Proposal{}, list...)})
}

// Locked returns the locks of a repository, by path.
func (h *Host) Locked(ctx context.Context, repository string) ([]hostapi.Lock, error) {
	at := git.Bare(h.path(repository))
	defer at.Close()
	refs, err := at.RemoteRefs(ctx, vcs.Remote(h.path(repository)), reflock.Prefix)
	if err != nil {
		return nil, err
	}
	store, out := object.NewOverlay(at.Format, at), []hostapi.Lock{}
	for ref, id := range refs {
		if l, ok := reflock.Read(ctx, store, ref, id); ok {
			out = append(out, hostapi.Lock{Path: l.Path, Owner: l.Owner, Since: l.Since, Why: l.Why})
		}
	}
	slices.SortFunc(out, func(a, b hostapi.Lock) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

func (h *Host) apiLocks(w http.ResponseWriter, r *http.Request) {
	if _, ok := h.repository(r.PathValue("repository")); !ok {
		answer(w, http.StatusNotFound, fmt.Errorf("there is no repository %q here", r.PathValue("repository")))
		return
	}
	list, err := h.Locked(r.Context(), r.PathValue("repository"))
	if err != nil {
		answer(w, http.StatusInternalServerError, err)
		return
	}
	answer(w, http.StatusOK, hostapi.Locks{Version: 1, Locks: list})
}

// account returns the account of a request, or answers that it takes one.
func (h *Host) account(w http.ResponseWriter, r *http.Request) *hostapi.Person {
	who := h.person(r)
	if who == nil {
		w.Header().Set("WWW-Authenticate", `Basic realm="host"`)
		answer(w, http.StatusUnauthorized, fmt.Errorf("this takes an account"))
	}
	return who
}

func (h *Host) apiPropose(w http.ResponseWriter, r *http.Request) {
	who := h.account(w, r)
	if who == nil {
		return
	}
	var said hostapi.Proposal
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, largestRequest)).Decode(&said); err != nil {
		answer(w, http.StatusBadRequest, fmt.Errorf("reading the proposal: %w", err))
		return
	}
	if strings.TrimSpace(said.Title) == "" {
		answer(w, http.StatusBadRequest, fmt.Errorf("a proposal needs a title"))
		return
	}
	p, err := h.Propose(r.Context(), r.PathValue("repository"), who.Name, hostapi.Proposal{Title: said.Title,
		Text: said.Text, From: said.From, Fork: said.Fork, Into: said.Into})
	if err != nil {
		answer(w, http.StatusUnprocessableEntity, err)
		return
	}
	h.Refresh(r.PathValue("repository"))
	answer(w, http.StatusCreated, p)
}

func (h *Host) apiWithdraw(w http.ResponseWriter, r *http.Request) {
	who := h.account(w, r)
	if who == nil {
		return
	}
	name := r.PathValue("repository")
	repo, ok := h.repository(name)
	number, err := strconv.Atoi(r.PathValue("number"))
	if !ok || err != nil {
		answer(w, http.StatusNotFound, fmt.Errorf("there is no such proposal"))
		return
	}
	list, err := h.List(name)
	own := slices.ContainsFunc(list, func(p hostapi.Proposal) bool { return p.Number == number && p.By == who.Name })
	switch {
	case err != nil:
		answer(w, http.StatusInternalServerError, err)
	case !own && !repo.May(who.User):
		answer(w, http.StatusForbidden, fmt.Errorf("only its author and the maintainers can withdraw a proposal"))
	default:
		if err := h.Withdraw(r.Context(), name, number); err != nil {
			answer(w, http.StatusUnprocessableEntity, err)
			return
		}
		answer(w, http.StatusOK, map[string]any{"version": 1, "number": number, "state": hostapi.Withdrawn})
	}
}
