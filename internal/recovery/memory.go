package recovery

import (
	"bytes"
	"context"
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

// forget takes what is remembered of conflicts out, all of it where none is named, and gives how many there
// were.
func (s *store) forget(keys []settle.Key) (n int, err error) {
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

// recall is settle.Files.Recall of a session: what was decided here before or else, where decisions are shared,
// by a colleague.
func (s *Session) recall(k settle.Key) (r settle.Recollection, ok bool) {
	for _, d := range s.state.Decisions.List { // it is decided in this one
		if d.Key == k {
			return r, false
		}
	}
	if own, ok := s.store.recalled(k); ok {
		return settle.Recollection{Decision: own.Decision, When: own.When.Format("2 Jan 2006")}, true
	}
	d, ok := s.colleagues(context.Background(), k)
	return settle.Recollection{Decision: settle.Decision{Key: k, Way: d.Way, Text: d.Text, Moved: d.Moved},
		When: d.When.Format("2 Jan 2006"), By: d.By}, ok
}
