package ledger

import (
	"bytes"
	"fmt"
	"slices"
	"time"

	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/exact"
)

// remembered is a decision of an accepted join.
type remembered struct {
	settle.Decision
	When time.Time `json:"when"`
}

// mostRemembered limits the number of remembered decisions. The oldest are removed first.
const mostRemembered = 5000

// Remember stores the decisions of an accepted join.
func (s *Store) Remember(list []settle.Decision, when time.Time) error {
	if len(list) == 0 {
		return nil
	}
	err := s.update(func(tx *bbolt.Tx) error {
		b, err := tx.CreateBucketIfNotExists(bucketMemory)
		if err != nil {
			return err
		}
		for _, d := range list { // a later decision on the same conflict replaces the earlier one
			data, err := exact.Marshal(remembered{d, when})
			if err == nil {
				err = b.Put([]byte(d.Key), data)
			}
			if err != nil {
				return err
			}
		}
		return keepNewest(b, mostRemembered, func(data []byte) (at time.Time) {
			var r remembered
			if exact.Unmarshal(data, &r) == nil {
				at = r.When
			}
			return at
		})
	})
	if err != nil {
		return fmt.Errorf("remembering what was decided: %w", err)
	}
	return nil
}

// keepNewest removes all but the newest entries of a bucket. when returns the time of an entry; unreadable entries
// count as oldest. Time O(n log n).
func keepNewest(b *bbolt.Bucket, most int, when func(data []byte) time.Time) error {
	type entry struct {
		key []byte
		at  time.Time
	}
	var all []entry
	if err := b.ForEach(func(k, data []byte) error { // the bucket's statistics do not count this transaction
		all = append(all, entry{bytes.Clone(k), when(data)})
		return nil
	}); err != nil || len(all) <= most {
		return err
	}
	slices.SortStableFunc(all, func(x, y entry) int { return x.at.Compare(y.at) })
	for _, e := range all[:len(all)-most] {
		if err := b.Delete(e.key); err != nil {
			return err
		}
	}
	return nil
}

// Recalled returns the remembered decision of a conflict.
func (s *Store) Recalled(k settle.Key) (r remembered, ok bool) {
	_ = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			if b := tx.Bucket(bucketMemory); b != nil {
				if data := b.Get([]byte(k)); data != nil {
					ok = exact.Unmarshal(data, &r) == nil
				}
			}
			return nil
		})
	})
	return r, ok
}

// Forget removes remembered decisions, all of them or those with the keys, and returns their number.
func (s *Store) Forget(keys []settle.Key) (n int, err error) {
	err = s.update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(bucketMemory)
		if b == nil {
			return nil
		}
		if len(keys) == 0 {
			if err := b.ForEach(func(k, _ []byte) error {
				keys = append(keys,
					settle.Key(k))
				return nil
			}); err != nil {
				return err
			}
		}
		for _, k := range keys {
			if b.Get([]byte(k)) == nil {
				continue
			}
			if err := b.Delete([]byte(k)); err != nil {
				return err
			}
			n++
		}
		return nil
	})
	if err != nil {
		return 0, fmt.Errorf("forgetting what was decided: %w", err)
	}
	return n, nil
}
