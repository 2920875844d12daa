package odb

import (
	"errors"
	"fmt"
	"os"
	"runtime"

	"golang.org/x/sys/unix"
)

// mapped is a memory-mapped file. It stays readable until it is released, even if it is removed.
type mapped struct{ data []byte }

func mapFile(name string) (*mapped, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if info.Size() == 0 || int64(int(info.Size())) != info.Size() {
		return nil, errors.New("it is empty, or too large to be mapped")
	}
	data, err := unix.Mmap(int(f.Fd()), 0, int(info.Size()), unix.PROT_READ, unix.MAP_SHARED)
	if err != nil {
		return nil, fmt.Errorf("mapping %s: %w", name, err)
	}
	m := &mapped{data}
	runtime.AddCleanup(m, func(data []byte) { _ = unix.Munmap(data) }, data)
	return m, nil
}
