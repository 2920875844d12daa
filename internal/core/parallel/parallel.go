// Package parallel runs many calls of one kind on all processors.
package parallel

import (
	"errors"
	"runtime"
	"sync"
	"sync/atomic"

	"dorvik.dev/dorvik/internal/core/caught"
)

// Do calls do for each i in [0, n). Each processor takes several consecutive ones at a time; if that is all of them
// the caller does the work alone. After an error no more calls begin, and Do returns the first error. If do panics in
// another goroutine, Do panics with a *caught.Error.
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
