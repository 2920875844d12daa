package beneath

import (
	"errors"

	"golang.org/x/sys/unix"
)

// renameNoReplace renames a file atomically unless the new name exists. The error is errors.ErrUnsupported if the file
// system cannot do that.
func renameNoReplace(from int, name string, into int, as string) error {
	err := unix.Renameat2(from, name, into, as, unix.RENAME_NOREPLACE)
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		return errors.ErrUnsupported
	}
	return err
}
