// Package parallel does many things of one kind on all processors.
package parallel

import (
	"errors"
	"runtime"
	"sync"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/caught"
)

// Do calls do for each i from 0 below n. Each processor takes so many that follow each other together, and comes back
// for more; where that is all there is, none but the caller works. After an error nothing more is begun, and the first
// is given. If do panics in another goroutine, Do panics in the caller's with a *caught.Error.
func Do(n, together int, do func(i int) error) error {
	var next atomic.Int64
	var failed atomic.Pointer[error]
	work := func() {
		for failed.Load() == nil {
			end := int(next.Add(int64(together)))
			if end-together >= n {
				return
			}
			for i := end - together; i < min(end, n); i++ {
				if err := caught.Do(func() error { return do(i) }); err != nil {
					failed.CompareAndSwap(nil, &err)
					return
				}
			}
		}
	}
	var others sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), (n+together-1)/together) - 1 {
		others.Go(work)
	}
	work()
	others.Wait()
	err := failed.Load()
	if err == nil {
		return nil
	}
	if defect := (*caught.Error)(nil); errors.As(*err, &defect) {
		panic(defect)
	}
	return *err
}
