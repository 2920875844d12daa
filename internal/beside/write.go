package beside

import (
	"errors"
	"io/fs"
	"os"
	"sync"
	"syscall"

	"dorvik.dev/dorvik/internal/beneath"
	"dorvik.dev/dorvik/internal/core/object"
)

// WriteFile replaces a file, completely or not at all.
func WriteFile(path string, data []byte) error {
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(path+".new", path)
	}
	if err != nil {
		os.Remove(path + ".new")
	}
	return err
}

// umask is the permissions that new files of this process do not get.
var umask = sync.OnceValue(func() fs.FileMode {
	mask := syscall.Umask(0o077)
	syscall.Umask(mask)
	return fs.FileMode(mask)
})

// WriteEntry writes a file or a link into a folder, where nothing may be yet.
func WriteEntry(at beneath.Folder, path string, e object.Entry, data []byte) error {
	switch e.Mode {
	case object.ModeLink:
		return at.Link(path, string(data))
	case object.ModeExec:
		return at.Put(path, data, 0o777&^umask())
	}
	return at.Put(path, data, 0o666&^umask())
}
