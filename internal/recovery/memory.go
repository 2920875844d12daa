package recovery

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/core/settle"
)

// remembered is a decision of a recovery that was accepted.
type remembered struct {
	settle.Decision
	When time.Time `json:"when"`
}

// mostRemembered is how many decisions are kept; the oldest are forgotten first.
const mostRemembered = 5000

// remember keeps the decisions of a join that was accepted.
func (s *store) remember(list []settle.Decision, when time.Time) error {
	if len(list) == 0 {
		return nil
	}
	err := s.update(func(tx *bbolt.Tx) error {
		b, err := tx.CreateBucketIfNotExists(bucketMemory)
		if err != nil {
			return err
		}
		for _, d := range list { // a later one on the same conflict stands
			data, err := json.Marshal(remembered{d, when})
			if err == nil {
				err = b.Put([]byte(d.Key), data)
			}
			if err != nil {
				return err
			}
		}
		n := 0 // the bucket's own count is that of before
		if err := b.ForEach(func(_, _ []byte) error { n++; return nil }); err != nil {
			return err
		}
		return forgetOldest(b, n-mostRemembered)
	})
	if err != nil {
		return fmt.Errorf("remembering what was decided: %w", err)
	}
	return nil
}

// forgetOldest takes the n oldest out.
func forgetOldest(b *bbolt.Bucket, n int) error {
	for ; n > 0; n-- {
		var oldest []byte
		var at time.Time
		err := b.ForEach(func(k, data []byte) error {
			var r remembered
			if json.Unmarshal(data, &r) != nil || oldest == nil || r.When.Before(at) {
				oldest, at = bytes.Clone(k), r.When
			}
			return nil
		})
		if err != nil || oldest == nil {
			return err
		}
		if err := b.Delete(oldest); err != nil {
			return err
		}
	}
	return nil
}

// recalled gives what is remembered of a conflict.
func (s *store) recalled(k settle.Key) (r remembered, ok bool) {
	_ = safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			if b := tx.Bucket(bucketMemory); b != nil {
				if data := b.Get([]byte(k)); data != nil {
					ok = json.Unmarshal(data, &r) == nil
				}
			}
			return nil
		})
	})
	return r, ok
}

// recall is settle.Files.Recall of a session.
func (s *Session) recall(k settle.Key) (settle.Decision, string, bool) {
	r, ok := s.store.recalled(k)
	if ok {
		for _, d := range s.state.Decisions.List { // it is decided in this one
			ok = ok && d.Key != k
		}
	}
	return r.Decision, "on " + r.When.Format("2 Jan 2006"), ok
}
