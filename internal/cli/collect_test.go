package cli

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestTheCollectorKeepsToLess once it has run, also where there is one processor and no time between.
func TestTheCollectorKeepsToLess(t *testing.T) {
	defer debug.SetGCPercent(debug.SetGCPercent(100))
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	percent := func() uint64 {
		s := []metrics.Sample{{Name: "/gc/gogc:percent"}}
		metrics.Read(s)
		return s[0].Value.Uint64()
	}
	t.Setenv("GOGC", "50")
	collectLate(collected())
	assert.EqualValues(t, 100, percent(), "who set it knows better")
	t.Setenv("GOGC", "")
	collectLate(collected())
	assert.EqualValues(t, 100*firstHeap/4, percent())
	var kept []byte
	for patience := time.Now().Add(40 * time.Second); percent() != thenPercent && time.Now().Before(patience); {
		kept = make([]byte, 1<<16)
	}
	runtime.KeepAlive(kept)
	assert.EqualValues(t, thenPercent, percent())
}
