//go:build !linux

package beneath

import "errors"

// renameNoReplace has no portable form.
func renameNoReplace(int, string, int, string) error { return errors.ErrUnsupported }
