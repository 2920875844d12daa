package ledger

import (
	"bytes"
	"fmt"
	"path/filepath"

	"go.etcd.io/bbolt"

	"dorvik.dev/dorvik/internal/exact"
	"dorvik.dev/dorvik/internal/words"
)

// keptKinds lists the buckets besides the current recovery. salvage copies each entry that parse accepts.
var keptKinds = []struct {
	bucket    []byte
	one, many string
	parse     func(data []byte) error
}{
	{bucketMemory, "remembered decision", "remembered decisions", parsesAs[remembered]},
	{bucketWaypoints, "waypoint", "waypoints", parsesAs[Waypoint]},
	{bucketLogbook, "entry of the logbook", "entries of the logbook", parsesAs[LogEntry]},
	{bucketChecks, "result of a check", "results of checks", parsesAs[Ran]},
}

func parsesAs[T any](data []byte) error { return exact.Unmarshal(data, new(T)) }

// salvaged holds the readable entries of one bucket.
type salvaged struct {
	keys, values [][]byte
	sequence     uint64
	lost         bool // the reader skipped damaged records
}

// salvage reads the entries of a bucket as far as possible.
func (s *Store) salvage(bucket []byte, parse func(data []byte) error) (out salvaged) {
	err := safely(func() error {
		return s.db.View(func(tx *bbolt.Tx) error {
			b := tx.Bucket(bucket)
			if b == nil {
				return nil
			}
			out.sequence = b.Sequence()
			return b.ForEach(func(k, data []byte) error {
				if parse(data) != nil {
					out.lost = true
					return nil
				}
				out.keys, out.values = append(out.keys, bytes.Clone(k)), append(out.values, bytes.Clone(data))
				return nil
			})
		})
	})
	out.lost = out.lost || err != nil
	return out
}

// bringIn writes salvaged entries.
func (s *Store) bringIn(bucket []byte, of salvaged) error {
	return s.update(func(tx *bbolt.Tx) error {
		b, err := tx.CreateBucketIfNotExists(bucket)
		if err != nil {
			return err
		}
		for i, key := range of.keys {
			if err := b.Put(key, of.values[i]); err != nil {
				return err
			}
		}
		return b.SetSequence(of.sequence)
	})
}

// anew moves a damaged file aside and creates a new one from its readable entries. notice describes them.
func (s *Store) anew(path string, bad *damaged) (fresh *Store, notice string, err error) {
	st, stateErr := State{}, error(bad)
	found := make([]salvaged, len(keptKinds))
	if s.db != nil {
		st, stateErr = s.load()
		for i, k := range keptKinds {
			found[i] = s.salvage(k.bucket, k.parse)
		}
		s.close()
	} else {
		for i := range found {
			found[i].lost = true
		}
	}
	aside, err := SetAside(path)
	if err != nil {
		return s, "", err
	}
	fresh = &Store{}
	if fresh.db, err = openDB(path, false); err == nil {
		err = fresh.begin()
	}
	if err == nil && stateErr == nil {
		err = fresh.save(&st)
	}
	var has, lacks []string
	if stateErr == nil {
		n := len(st.Decisions.List)
		has = append(has, words.Count(n, "decision of this recovery", "decisions of this recovery"))
	} else {
		lacks = append(lacks, "the decisions of this recovery")
	}
	for i, k := range keptKinds {
		if n := len(found[i].keys); n > 0 {
			has = append(has, words.Count(n, k.one, k.many))
			if err == nil {
				err = fresh.bringIn(k.bucket, found[i])
			}
		}
		if found[i].lost {
			lacks = append(lacks, k.many)
		}
	}
	notice = fmt.Sprintf("The file in which Dorvik keeps its recoveries was damaged (%v). It is set aside as %s, and "+
		"a new one is begun.", bad, filepath.Base(aside))
	if len(has) > 0 {
		notice += " It has what could be read: " + words.List(has) + "."
	}
	if len(lacks) > 0 {
		notice += " Lost, or a part of them: " + words.List(lacks) + "."
	}
	return fresh, notice + " Your branch and files are not touched.", err
}
