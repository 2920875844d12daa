package proposal

import (
	"context"
	"encoding/json"
	"fmt"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/vcs"
)

// mostState limits the size of a host's state, in bytes.
const mostState = 4 << 20

// stateHere returns the ref here that holds a copy of a host's state, and stateSpec the refspec that fetches it.
func stateHere(remote vcs.Remote) string { return "refs/dorvik/host/" + remote.Key() }

func stateSpec(remote vcs.Remote) string { return "+" + hostapi.StateRef + ":" + stateHere(remote) }

// FetchState asks a remote for the state that its host shows by a ref. It returns nil if there is none.
func FetchState(ctx context.Context, repo vcs.System, store *object.Overlay, remote vcs.Remote) (*hostapi.Shown,
	error) {
	refs, err := repo.RemoteRefs(ctx, remote, hostapi.StateRef)
	if err != nil || refs[hostapi.StateRef].IsZero() {
		return nil, err
	}
	if err := repo.FetchRefs(ctx, remote, stateSpec(remote)); err != nil {
		return nil, err
	}
	return ReadState(ctx, repo, store, remote)
}

// ReadState reads the copy here of the state that a host showed last.
func ReadState(ctx context.Context, repo vcs.System, store *object.Overlay, remote vcs.Remote) (*hostapi.Shown, error) {
	unreadable := fmt.Errorf("the state that %s shows cannot be read", remote)
	at, err := repo.Ref(ctx, stateHere(remote))
	if err != nil {
		return nil, err
	}
	if at.IsZero() {
		return nil, unreadable
	}
	c, err := store.Commit(ctx, at)
	if err != nil {
		return nil, err
	}
	e, err := store.Find(ctx, c.Tree, hostapi.StateFile)
	if err != nil || e.Absent() {
		return nil, unreadable
	}
	data, err := store.Blob(ctx, e.ID)
	if err != nil {
		return nil, err
	}
	out := &hostapi.Shown{}
	if len(data) > mostState || json.Unmarshal(data, out) != nil || out.Version != 1 {
		return nil, unreadable
	}
	return out, nil
}
