package cli

import (
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// firstHeap is how much a command may allocate before the collector runs, in MB. Most commands end before they come to
// that; from 4 MB on, as is usual, it takes them a twentieth of their time.
const firstHeap = 48

// thenPercent is how much of what is alive may be allocated before it runs again. Usual is 100, which takes a tenth
// more memory in large work, and no less time to speak of.
const thenPercent = 80

// lateFor is how long a command may take without the collector: what goes on after that is large, or waits for a
// person. Till then it is looked whether it has run.
const (
	lateFor   = time.Second
	lookEvery = 20 * time.Millisecond
)

// mostHeap is up to what, in bytes, the collector lets garbage stay: a join of the largest texts is to need less than a
// gigabyte.
const mostHeap = 700 << 20

// boundHeap has the collector keep below mostHeap as far as it can. Who set GOMEMLIMIT knows better.
func boundHeap() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(mostHeap)
	}
}

// collectLate has the collector begin late, and keep to less than is usual once it has run oftener than so many times.
// Who set GOGC knows better.
func collectLate(runs uint64) {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(100 * firstHeap / 4) // of the 4 MB that a heap has at least
	go func() {
		// The collector itself would tell (runtime.AddCleanup), but where there is much to do only when it runs again.
		for waited := lookEvery; waited < lateFor; waited += lookEvery {
			time.Sleep(lookEvery)
			if now := collected(); now > runs {
				runs = now
				debug.SetGCPercent(max(thenPercent, 100*firstHeap<<20/alive()-100))
			}
		}
		debug.SetGCPercent(thenPercent)
	}()
}

// collected returns how often the collector has run.
func collected() uint64 {
	s := []metrics.Sample{{Name: "/gc/cycles/total:gc-cycles"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

// alive returns how many bytes the collector found in use when it ran last.
func alive() int {
	s := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(s)
	return max(1, int(s[0].Value.Uint64()))
}
