package recovery

import (
	"context"
	"slices"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/vcs"
)

// Tags are the tags here that belong to a push.
type Tags struct {
	Belong []string // at commits that go or, with push.followTags, annotated and missing at the remote
	Follow []string // of these, those that go by push.followTags
	// Stay lists tags at commits of yours that go in another form.
	Stay []string
}

// Chosen returns the tags that go by a choice.
func (t *Tags) Chosen(how change.Tags) []string {
	switch how {
	case change.AllTags:
		return t.Belong
	case change.NoTags:
		return nil
	}
	return t.Follow
}

// tagger finds tags.
type tagger struct {
	repo  vcs.System
	store *object.Overlay
}

// of finds the tags that belong to a push of a tip to a remote.
func (tg tagger) of(ctx context.Context, p *plan.Position, to vcs.Remote, tip object.ID, goes []history.Node) (*Tags,
	error) {
	out := &Tags{}
	names, err := tg.repo.Names(ctx)
	if err != nil {
		return nil, err
	}
	names = slices.DeleteFunc(names, func(n vcs.Named) bool { _, is := n.Tag(); return !is })
	if len(names) == 0 || to == "" {
		return out, nil
	}
	follows, err := tg.repo.Flag(ctx, "push.followTags")
	if err != nil {
		return nil, err
	}
	var there map[string]object.ID
	if follows { // these can be at commits that are there already
		if there, err = tg.repo.RemoteTags(ctx, to); err != nil {
			follows = false // the push tells what is wrong
		}
	}
	at := func(list []history.Node, id object.ID) bool {
		return slices.ContainsFunc(list, func(n history.Node) bool { return n.ID == id })
	}
	for _, n := range names {
		name, _ := n.Tag()
		switch _, has := there[name]; {
		case has:
			continue
		case at(goes, n.Commit):
			out.Belong = append(out.Belong, name)
		case at(p.Divergence.Yours, n.Commit):
			out.Stay = append(out.Stay, name)
			continue
		case !follows || !n.Annotated():
			continue
		default:
			above, err := history.Only(ctx, tg.store, n.Commit, tip)
			if err != nil {
				return nil, err
			}
			if len(above) > 0 {
				continue
			}
			out.Belong = append(out.Belong, name)
		}
		if follows && n.Annotated() {
			out.Follow = append(out.Follow, name)
		}
	}
	return out, nil
}

// arrived asks the remote which of the tags that went it holds, and which it holds otherwise or not.
func (tg tagger) arrived(ctx context.Context, what vcs.Sending, out *Pushed) error {
	if len(what.Tags) == 0 {
		return nil
	}
	there, err := tg.repo.RemoteTags(ctx, what.Remote)
	if err != nil {
		return err
	}
	names, err := tg.repo.Names(ctx)
	if err != nil {
		return err
	}
	for _, n := range names {
		name, is := n.Tag()
		switch {
		case !is || !slices.Contains(what.Tags, name):
		case there[name] == n.Object:
			out.Tags = append(out.Tags, name)
		default:
			out.NoTags = append(out.NoTags, name)
		}
	}
	return nil
}
