package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/exact"
)

// Ran is the result of a completed check.
type Ran struct {
	Passed bool          `json:"passed"`
	Took   time.Duration `json:"took"`
	When   time.Time     `json:"when"`
}

var bucketChecks = []byte("checks") // by tree, command and environment

// mostChecks limits the number of stored results. The oldest are removed first.
const mostChecks = 1000

// KeyOfCheck returns the key of a result: tree, command, and environment without TERM variables.
func KeyOfCheck(tree object.ID, line string, env []string) []byte {
	kept := slices.DeleteFunc(slices.Clone(env), func(kv string) bool { return strings.HasPrefix(kv, "TERM=") })
	slices.Sort(kept)
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%s/%s\n%q\n%q", tree, runtime.GOOS, runtime.GOARCH, line, kept)
	return []byte(hex.EncodeToString(h.Sum(nil)))
}

// PutRan stores the result of a check.
func (s *Store) PutRan(key []byte, r Ran) error {
	err := s.update(func(tx *bbolt.Tx) error {
		b, err := tx.CreateBucketIfNotExists(bucketChecks)
		if err != nil {
			return err
		}
		data, err := exact.Marshal(r)
		if err == nil {
			err = b.Put(key, data)
		}
		if err != nil {
			return err
		}
		return keepNewest(b, mostChecks, func(data []byte) (at time.Time) {
			var o Ran
			if exact.Unmarshal(data, &o) == nil {
				at = o.When
			}
			return at
		})
	})
	if err != nil {
		return fmt.Errorf("keeping how a check ended: %w", err)
	}
	return nil
}

// RanBefore returns the stored result of the same check.
func (s *Store) RanBefore(key []byte) (r Ran, ok bool) {
	_ = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			if b := tx.Bucket(bucketChecks); b != nil {
				if data := b.Get(key); data != nil {
					ok = exact.Unmarshal(data, &r) == nil
				}
			}
			return nil
		})
	})
	return r, ok
}
