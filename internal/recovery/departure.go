package recovery

import (
	"context"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
)

// Departure is what is known before a push.
type Departure struct {
	Commits int          // that the push adds to the remote
	Left    []LeftOut    // what the joined result does not hold
	Marks   []MarkerFile // files with conflict marks, in any commit that goes
	Read    int          // files that were looked into for them
	Asked   time.Time    // when the remote was asked where it is
	Moved   bool         // it is no longer where this was joined
	Silent  error        // why it did not answer
}

// Mended counts what mends changed among what is left out.
func (d *Departure) Mended() (n int) {
	for _, l := range d.Left {
		if l.Mend {
			n++
		}
	}
	return n
}

// Departure makes sure, before a push of a tip, of what can be made sure of. j is nil where
// nothing was joined.
func (s *Session) Departure(ctx context.Context, p *Position, j *Join, tip object.ID) (*Departure, error) {
	d := &Departure{Commits: p.goes(j)}
	var err error
	if j != nil {
		st := s.State()
		if d.Left, err = s.LeftOut(p, j, &st.Decisions); err != nil {
			return nil, err
		}
	}
	up := p.Upstream()
	if d.Marks, d.Read, err = s.ConflictMarkers(ctx, up.Theirs, tip); err != nil {
		return nil, err
	}
	at, err := s.Repo.RemoteTip(ctx, p.Branch.Remote, p.Branch.Ref)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	d.Silent, d.Moved, d.Asked = err, err == nil && at != up.Theirs, time.Now()
	if p.Trivial() == NotTrivial {
		return d, s.Reach(Push)
	}
	return d, nil
}

// goes counts the commits that a push adds to the remote.
func (p *Position) goes(j *Join) int {
	switch {
	case p.Picking:
		return len(p.Home.Divergence.Yours) + j.Kept()
	case p.Trivial() == UpToDate || j == nil:
		return len(p.Divergence.Yours)
	case j.Route == Rebase:
		return j.Kept()
	}
	return len(p.Divergence.Yours) + 1
}
