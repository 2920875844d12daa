package cli

import (
	"os"
	"runtime"
	"runtime/debug"
)

// firstHeap is how much a command may allocate before the collector runs for the first time, in MB. Most commands end
// before they come to that; from 4 MB on, as is usual, it takes them a twentieth of their time.
const firstHeap = 32

// collectLate has the collector begin late, and then go on as usual. Who set GOGC knows better.
func collectLate() {
	if os.Getenv("GOGC") != "" {
		return
	}
	usual := debug.SetGCPercent(100 * firstHeap / 4) // of the 4 MB that a heap has at least
	// Nothing holds the value, so it is cleaned up when the collector has run.
	runtime.AddCleanup(new([64]byte), func(percent int) { debug.SetGCPercent(percent) }, usual)
}
