// Package applytest lets tests of a system's applier have joins be killed, or fail, at their steps. The product does
// not import it.
//
// The test's own binary is the program that is killed: its TestMain calls Main.
package applytest

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/faulttest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
	"dorvik.dev/dorvik/internal/recovery"
)

// Main runs the tests or, with DORVIK_ACT in the environment, does what that says in the folder DORVIK_DIR and ends.
// before and after are called around the tests.
func Main(m *testing.M, before, after func()) {
	faulttest.Main()
	what := os.Getenv("DORVIK_ACT")
	if what == "" {
		before()
		code := m.Run()
		after()
		os.Exit(code)
	}
	at, err := strconv.Atoi(os.Getenv("DORVIK_STEP"))
	n, fails := 0, os.Getenv("DORVIK_FAILS") != ""
	ledger.Step = func(name string) error {
		n++
		switch {
		case err != nil || n != at:
		case fails:
			return fmt.Errorf("%s: made to fail", name)
		default:
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		return nil
	}
	if err := act(context.Background(), os.Getenv("DORVIK_DIR"), what); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

// act joins by a route, takes the last join back, or only opens the repository.
func act(ctx context.Context, dir, what string) error {
	s, err := recovery.OpenSession(ctx, dir)
	if err != nil {
		return err
	}
	defer s.Close()
	switch what {
	case "open":
		return nil
	case "undo":
		_, err := s.Applier.GoBack(ctx, "")
		return err
	}
	_, err = Join(ctx, s, plan.Route(what))
	return err
}

// Join joins by a route, with all uncommitted work, and accepts.
func Join(ctx context.Context, s *recovery.Session, route plan.Route) (*ledger.Waypoint, error) {
	if err := s.Ledger.Carry(true); err != nil {
		return nil, err
	}
	p, err := s.Locate(ctx, false)
	if err != nil {
		return nil, err
	}
	if p.Trivial() == plan.UpToDate {
		return nil, errors.New("it is joined already")
	}
	if err := s.Ledger.Sync(p); err != nil {
		return nil, err
	}
	j, err := s.SettleBy(ctx, p, route, []settle.Way{settle.YoursTheirs, settle.Theirs})
	if err != nil {
		return nil, err
	}
	b, err := s.Planner.Build(ctx, p, j)
	if err != nil {
		return nil, err
	}
	return s.Accept(ctx, p, j, b, change.Consent{MoveAside: true})
}

// Run acts in a process of its own, which is killed at a step, or in which the step fails. The error is nil only if the
// process took fewer steps and ended well.
func Run(dir, what string, step int, fails bool) error {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "DORVIK_ACT="+what, "DORVIK_DIR="+dir)
	if step > 0 {
		cmd.Env = append(cmd.Env, "DORVIK_STEP="+strconv.Itoa(step))
	}
	if fails {
		cmd.Env = append(cmd.Env, "DORVIK_FAILS=yes")
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

// AtAnyStep kills an act at every so many of its steps in copies of a folder, or has the step fail. The next start must
// find old or new, whole: what state tells of the folder is as before, or as after where the row that arrived names is.
func AtAnyStep(t *testing.T, what string, every int, copied func() (dir string), state func(
	dir string) map[string]string,
	arrived string) {
	from := copied()
	before := state(from)
	require.NoError(t, Run(from, what, 0, false))
	after := state(from)
	tried := 0
	for _, fails := range []bool{false, true} {
		for step := 1; ; step += every {
			dir := copied()
			err := Run(dir, what, step, fails)
			if err == nil {
				break
			}
			tried++
			require.NoError(t, Run(dir, "open", 0, false), "%s, step %d, %v", what, step, err)
			is := state(dir)
			want := before
			if is[arrived] == after[arrived] {
				want = after
			}
			if !assert.Equal(t, want, is, "%s, step %d, fails %v: %v", what, step, fails, err) {
				return
			}
		}
	}
	t.Logf("%s: %d points", what, tried)
	assert.Positive(t, tried)
}
