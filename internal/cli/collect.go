package cli

import (
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// firstHeap is the allocation in MB at which the garbage collector first runs. Most commands end before that; the
// default of 4 MB costs them a twentieth of their time.
const firstHeap = 48

// thenPercent is GOGC after that. The default of 100 needs a tenth more memory for large joins and saves little time.
const thenPercent = 80

// lateFor is how long a command may take without the collector: what goes on after that is large, or waits for a
// person. Till then it is looked whether it has run.
const (
	lateFor   = time.Second
	lookEvery = 20 * time.Millisecond
)

// mostHeap is the soft memory limit in bytes. A join of the largest texts must need less than a gigabyte.
const mostHeap = 700 << 20

// boundHeap sets the soft memory limit unless GOMEMLIMIT is set.
func boundHeap() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(mostHeap)
	}
}

// collectLate delays the first collection and lowers GOGC after a number of them, unless GOGC is set.
func collectLate(runs uint64) {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(100 * firstHeap / 4) // percent of the 4 MB of a minimal heap
	go func() {
		// runtime.AddCleanup would report a collection, but on a busy program only at the next one.
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

// collected returns the number of collections.
func collected() uint64 {
	s := []metrics.Sample{{Name: "/gc/cycles/total:gc-cycles"}}
	metrics.Read(s)
	return s[0].Value.Uint64()
}

// alive returns the live bytes after the last collection.
func alive() int {
	s := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(s)
	return max(1, int(s[0].Value.Uint64()))
}
