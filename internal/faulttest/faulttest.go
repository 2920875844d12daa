// Package faulttest has a test's program, or another that it starts, be killed or fail at each of its operations on
// files in turn. It traces by Linux's ptrace on amd64, and skips the test elsewhere.
//
// The test's own binary is the program: its TestMain calls Main first and, where the environment has DORVIK_ACT, does
// what that says in the folder DORVIK_DIR.
package faulttest

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

const traced = "DORVIK_TRACE"

// Main runs the program under a tracer if it was started for that, and ends then.
func Main() {
	if spec := os.Getenv(traced); spec != "" {
		under(spec)
	}
}

// Picked returns which operations to try, from the environment: all with DORVIK_FILES, about so many as
// DORVIK_OPERATIONS says by the seed DORVIK_SEED, only that of DORVIK_OPERATION as a failure names it, or one.
func Picked() (pick func(at, all int) bool, all bool) {
	seed, _ := strconv.ParseUint(os.Getenv("DORVIK_SEED"), 10, 64)
	some, err := strconv.Atoi(os.Getenv("DORVIK_OPERATIONS"))
	if err != nil && os.Getenv("DORVIK_FILES") == "" {
		some = 1
	}
	only, _ := strconv.Atoi(os.Getenv("DORVIK_OPERATION"))
	r := rand.New(rand.NewPCG(seed, 1))
	return func(at, all int) bool {
		if only > 0 {
			return at == only
		}
		return some == 0 || r.IntN(all) < some
	}, some == 0
}

// Try does an act in copies of a folder, each time with a fault at another operation of those that are picked. whole
// looks at what came of it.
func Try(t *testing.T, what string, copied func() (dir string), picked func(at, all int) bool, whole func(dir,
	what string)) {
	trace := func(at int, f fault) (dir string, n, exit int, hit string) {
		dir = copied()
		n, exit, hit, err := (&tracer{dir: dir, at: at, fault: f}).run(what)
		if err != nil {
			t.Skip("nothing can be traced here: ", err)
		}
		return dir, n, exit, hit
	}
	_, all, exit, _ := trace(0, faults[0])
	require.True(t, exit == 0 && all > 20, "%d operations, ended with %d", all, exit)
	tried := 0
	for at := 1; at <= all && !t.Failed(); at++ {
		if !picked(at, all) {
			continue
		}
		f := faults[at%len(faults)]
		dir, _, exit, hit := trace(at, f)
		tried++
		whole(dir, fmt.Sprintf("%s at operation %d of %d, %s; it ended with %d", f.name, at, all, hit, exit))
	}
	t.Logf("%d of %d points tried", tried, all)
}
