package recovery

import (
	"maps"
	"slices"
	"testing"

	"dorvik.dev/dorvik/internal/faulttest"
)

// TestEveryOperationOnFiles has Dorvik, or a git of its own, be killed or fail at its n-th operation on a file: in every
// scene, at every n in the soak, at some here.
func TestEveryOperationOnFiles(t *testing.T) {
	t.Parallel()
	scenes := map[string]func() *harbour{"light": func() *harbour { return newHarbour(t, 3) },
		"laden": func() *harbour { return newLadenHarbour(t) }, "aside": func() *harbour { return newAsideHarbour(t) },
		"finish": func() *harbour { return newStuckHarbour(t, "finish") },
		"back":   func() *harbour { return newStuckHarbour(t, "back") },
		"return": func() *harbour { return newReturnHarbour(t) },
		"switch": func() *harbour { return newSwitchHarbour(t) }}
	_, every := faulttest.Picked()
	for _, name := range slices.Sorted(maps.Keys(scenes)) {
		if !every && name != "laden" && name != "finish" { // the soak tries all
			continue
		}
		h := scenes[name]()
		for i, what := range []string{h.act, "undo"} {
			if i > 0 && h.act == "switch" {
				continue // undoing it is another switch
			}
			t.Run(name+" "+what, func(t *testing.T) {
				from := []string{h.dir, h.joined}[i]
				picked, _ := faulttest.Picked()
				faulttest.Try(t, what, func() string { return h.copy(t, from) }, picked,
					func(dir, what string) { h.whole(t, dir, what) })
			})
		}
	}
}
