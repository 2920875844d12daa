package cli

import (
	"os"
	"runtime"
	"runtime/debug"
)

// firstHeap is how much a command may allocate before the collector runs for the first time, in MB. Most commands end
// before they come to that; from 4 MB on, as is usual, it takes them a twentieth of their time.
const firstHeap = 32

// thenPercent is how much of what is alive may be allocated before it runs again. Usual is 100, which takes a tenth
// more memory in large work, and no less time to speak of.
const thenPercent = 80

// collectLate has the collector begin late, and then keep to less than is usual. Who set GOGC knows better.
func collectLate() {
	if os.Getenv("GOGC") != "" {
		return
	}
	debug.SetGCPercent(100 * firstHeap / 4) // of the 4 MB that a heap has at least
	// Nothing holds the value, so it is cleaned up when the collector has run.
	runtime.AddCleanup(new([64]byte), func(percent int) { debug.SetGCPercent(percent) }, thenPercent)
}
