//go:build !linux || !amd64

package faulttest

import "errors"

type fault struct{ name string }

var faults = []fault{{}}

type tracer struct {
	dir   string
	at    int
	fault fault
}

func (*tracer) run(string) (n, exit int, hit string, err error) {
	return 0, 0, "", errors.ErrUnsupported
}

func under(string) {}
