package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/vcs"
)

// stored returns the file with the proposals of a repository.
func (h *Host) stored(repository string) string {
	return filepath.Join(h.path(repository), hostapi.ProposalsFile)
}

// proposals returns the proposals of a repository, oldest first. Call it with h.mu held.
func (h *Host) proposals(repository string) (list []hostapi.Proposal, err error) {
	data, err := os.ReadFile(h.stored(repository))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &list)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the proposals of %s: %w", repository, err)
	}
	return list, nil
}

// Propose puts a branch of a repository or of a fork of it forward. by is the name of a person.
func (h *Host) Propose(ctx context.Context, repository, by string, p hostapi.Proposal) (*hostapi.Proposal, error) {
	repo, ok := h.repository(repository)
	if !ok {
		return nil, fmt.Errorf("there is no repository %q here", repository)
	}
	from := repo.Name
	if p.Fork != "" {
		fork, ok := h.repository(p.Fork)
		if !ok || fork.Of != repo.Name {
			return nil, fmt.Errorf("%q is no fork of %s", p.Fork, repo.Name)
		}
		from = fork.Name
	}
	for _, b := range [][2]string{{from, p.From}, {repo.Name, p.Into}} {
		if at, err := h.tip(ctx, b[0], "refs/heads/"+b[1]); err != nil || at.IsZero() {
			return nil, errors.Join(err, fmt.Errorf("%s has no branch %q", b[0], b[1]))
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	list, err := h.proposals(repository)
	if err != nil {
		return nil, err
	}
	p.Number, p.By, p.State = 1, by, hostapi.Waiting
	if p.Opened.IsZero() {
		p.Opened = time.Now().UTC().Truncate(time.Second)
	}
	if len(list) > 0 {
		p.Number = list[len(list)-1].Number + 1
	}
	p.Ref = hostapi.RefOf(p.Number, p.Into)
	if err := h.follow(ctx, repository, &p); err != nil {
		return nil, err
	}
	return &p, writeJSON(h.stored(repository), append(list, p))
}

// tip returns the commit of a ref of a repository, or zero.
func (h *Host) tip(ctx context.Context, repository, ref string) (object.ID, error) {
	repo := git.Bare(h.path(repository))
	defer repo.Close()
	return repo.Ref(ctx, ref)
}

// follow moves the ref of a proposal to its branch, and finds out whether its branch has it. Call it with h.mu held.
func (h *Host) follow(ctx context.Context, repository string, p *hostapi.Proposal) error {
	from := repository
	if p.Fork != "" {
		from = p.Fork
	}
	repo := git.Bare(h.path(repository))
	defer repo.Close()
	at, err := h.tip(ctx, from, "refs/heads/"+p.From)
	if err != nil {
		return err
	}
	shown, err := repo.Ref(ctx, p.Ref)
	if err != nil {
		return err
	}
	into, err := repo.Ref(ctx, "refs/heads/"+p.Into)
	if err != nil {
		return err
	}
	if at.IsZero() { // the branch is gone: accepted, or given up
		at = shown
		p.State = hostapi.Withdrawn
	}
	if at != shown && p.Fork != "" {
		err = repo.FetchRefs(ctx, vcs.Remote(h.path(from)), "+refs/heads/"+p.From+":"+p.Ref)
	} else if at != shown {
		err = repo.UpdateRefs(ctx, "proposal", vcs.RefUpdate{Name: p.Ref, New: at, Old: shown})
	}
	if err != nil || at.IsZero() || into.IsZero() {
		return err
	}
	p.Tip = at.String()
	in, err := history.IsAncestor(ctx, object.NewOverlay(repo.Format, repo), at, into)
	if in {
		p.State, p.AcceptAt = hostapi.Accepted, into.String()
	}
	return err
}

// Refresh brings everything up to date after a push: the proposals of the repository and of the one that it is a fork
// of, the checks, and the open pages.
func (h *Host) Refresh(repository string) {
	if repo, ok := h.repository(repository); ok && repo.Of != "" {
		repository = repo.Of
	}
	ctx := context.Background()
	h.mu.Lock()
	list, err := h.proposals(repository)
	for i := range list {
		if err == nil && list[i].State == hostapi.Waiting {
			err = h.follow(ctx, repository, &list[i])
		}
	}
	if err == nil {
		err = writeJSON(h.stored(repository), list)
	}
	h.mu.Unlock()
	if err != nil {
		fmt.Fprintf(os.Stderr, "host: %s: %v\n", repository, err)
	}
	h.checkAll(ctx, repository)
	h.changed(repository)
}

// changed shows the present state of a repository: by its ref, and to the open pages.
func (h *Host) changed(repository string) {
	if err := h.writeState(context.Background(), repository); err != nil {
		fmt.Fprintf(os.Stderr, "host: %s: %v\n", repository, err)
	}
	h.tell(repository)
}

// writeState writes the state of a repository into a commit that its ref names.
func (h *Host) writeState(ctx context.Context, repository string) error {
	r, err := h.Show(ctx, repository)
	if err != nil {
		return err
	}
	list, err := h.List(repository)
	if err != nil {
		return err
	}
	data, err := json.Marshal(hostapi.Shown{Repository: *r, Proposals: list})
	if err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	repo := git.Bare(h.path(repository))
	defer repo.Close()
	o := object.NewOverlay(repo.Format, repo)
	tree, err := o.Edit(ctx, object.ID{}, map[string]object.Entry{hostapi.StateFile: {Mode: object.ModeFile,
		ID: o.Put(object.KindBlob, data)}})
	if err != nil {
		return err
	}
	who := object.Signature{Name: "host", Email: "host@localhost", When: time.Now().Unix(), Zone: "+0000"}
	id := o.PutCommit(&object.Commit{Tree: tree, AuthorLine: who.String(), Committer: who, Message: "state\n"})
	if err := repo.Keep(ctx, o, id); err != nil {
		return err
	}
	defer repo.LetPacksGo(ctx)
	was, err := repo.Ref(ctx, hostapi.StateRef)
	if err != nil {
		return err
	}
	return repo.UpdateRefs(ctx, "state", vcs.RefUpdate{Name: hostapi.StateRef, New: id, Old: was})
}

// Withdraw takes a proposal back. Its branch stays.
func (h *Host) Withdraw(ctx context.Context, repository string, number int) error {
	h.mu.Lock()
	list, err := h.proposals(repository)
	i := slices.IndexFunc(list, func(p hostapi.Proposal) bool { return p.Number == number })
	switch {
	case err != nil:
	case i < 0:
		err = fmt.Errorf("%s has no proposal %d", repository, number)
	case list[i].State != hostapi.Waiting:
		err = fmt.Errorf("proposal %d no longer waits: it is %s", number, list[i].State)
	default:
		list[i].State = hostapi.Withdrawn
		repo := git.Bare(h.path(repository))
		at, rerr := repo.Ref(ctx, list[i].Ref)
		if err = rerr; err == nil && !at.IsZero() {
			err = repo.UpdateRefs(ctx, "withdrawn", vcs.RefUpdate{Name: list[i].Ref, Old: at})
		}
		repo.Close()
		if err == nil {
			err = writeJSON(h.stored(repository), list)
		}
	}
	h.mu.Unlock()
	h.changed(repository)
	return err
}

// tell has the open pages of a repository read it again.
func (h *Host) tell(repository string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for page, of := range h.pages {
		if of != repository {
			continue
		}
		select {
		case page <- struct{}{}:
		default:
		}
	}
}
