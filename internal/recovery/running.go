package recovery

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"dorvik.dev/dorvik/internal/check"
	"dorvik.dev/dorvik/internal/core/object"
)

// limits are what a check may take; zero for no limit.
type limits struct {
	time   time.Duration // dorvik.checkTime: minutes, or with a unit
	memory int           // dorvik.checkMemory, in MB of address space for each process
}

func (w *Workspace) limits(ctx context.Context) (l limits, err error) {
	if l.time, err = w.duration(ctx, "dorvik.checkTime"); err != nil {
		return l, err
	}
	said, err := w.Repo.Config(ctx, "dorvik.checkMemory")
	if err != nil || said == "" {
		return l, err
	}
	if l.memory, err = strconv.Atoi(said); err != nil || l.memory < 0 {
		return l, errors.New("dorvik.checkMemory is " + said + ", which is no number of megabytes")
	}
	return l, nil
}

// runSteps runs a check in a folder, within its limits, and keeps how it ended for the tree that is there. What took
// too long did not pass, and is said to.
func (s *Session) runSteps(ctx context.Context, dir string, c check.Command, tree object.ID, emit func(string),
	begun func(int)) (r check.Report, err error) {
	env, err := s.environment(ctx)
	if err != nil {
		return r, err
	}
	l, err := s.limits(ctx)
	if err != nil {
		return r, err
	}
	within, stop := ctx, func() {}
	if l.time > 0 {
		within, stop = context.WithTimeout(ctx, l.time)
	}
	defer stop()
	steps := c.Steps
	if l.memory > 0 {
		steps = nil
		for _, line := range c.Steps {
			steps = append(steps, fmt.Sprintf("ulimit -v %d\n%s", l.memory<<10, line))
		}
	}
	r, err = check.RunSteps(within, dir, steps, env, emit, begun)
	for i := range r.Steps {
		r.Steps[i].Line = c.Steps[i]
	}
	if err != nil && ctx.Err() == nil && errors.Is(err, context.DeadlineExceeded) {
		emit(fmt.Sprintf("dorvik: it took longer than %v and was ended (dorvik.checkTime)", l.time))
		r.Passed, r.Exit = false, -1
		return r, nil // not kept: another time it may be quicker
	}
	if err != nil {
		return r, err
	}
	return r, s.store.putRan(keyOfCheck(tree, c.Line, env), ran{r.Passed, r.Took, time.Now()})
}
