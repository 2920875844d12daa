package merge

import (
	"context"
	"strconv"

	"dorvik.dev/dorvik/internal/core/object"
)

const (
	NotDefined DriverOutcome = iota // no driver has this name: text is joined as text
	NotAgreed                       // the driver exists, and nobody agreed to run it
	Driven                          // the driver joined the file
	Undriven                        // the driver reported a conflict
)

// drive runs a merge driver for a file. done is false if there is none.
func (m *merger) drive(ctx context.Context, path string, ids Three[object.ID], name, size string) (id object.ID,
	done bool, err error) {
	if m.engine.Drive == nil {
		return id, false, nil
	}
	key := driverCall{name, path, ids}
	known, ok := m.engine.driven.get(key)
	if !ok {
		var contents Three[[]byte]
		for _, of := range []Side{ofBase, Yours, Theirs} {
			id := *key.ids.Of(of)
			if id.IsZero() {
				continue
			}
			if *contents.Of(of), err = m.engine.Store.Blob(ctx, id); err != nil {
				return id, false, err
			}
		}
		markerSize, err := strconv.Atoi(size) // the size becomes part of a command, so it must be a number
		if err != nil || markerSize <= 0 {
			markerSize = 7
		}
		var joined []byte
		joined, known.outcome, err = m.engine.Drive(ctx, name, path, contents.Base, contents.Yours,
			contents.Theirs, markerSize)
		if ctx.Err() != nil {
			return id, false, ctx.Err()
		}
		if err != nil {
			known = drivenTo{outcome: Undriven, failure: err.Error()}
		}
		if known.outcome == Driven {
			known.id = m.engine.Store.Put(object.KindBlob, joined)
		}
		if known.outcome != NotAgreed { // a person may agree at any time, so this outcome is not kept
			m.engine.driven.put(key, known)
		}
	}
	switch known.outcome {
	case Driven:
		m.remark(path, "joined by your merge driver “"+name+"”")
		return known.id, true, nil
	case Undriven:
		if known.failure != "" {
			m.remark(path, "left to you: "+known.failure)
			return id, true, nil
		}
		m.remark(path, "your merge driver “"+name+"” left this to you")
		return id, true, nil
	case NotAgreed:
		m.remark(path, "joined as text: your merge driver “"+name+"” runs only once you agree to it")
		m.out.Remarks[len(m.out.Remarks)-1].Driver = name
	}
	return id, false, nil
}
