package svn

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/beside"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// otherLine is a line besides the one that is checked out, such as trunk where a branch is. Its revisions are read when
// it is first joined or compared with.
type otherLine struct {
	Line string `json:"line"`
	Born int64  `json:"born"` // the revision that made it
	// From is the line that it was made as a copy of, as of a revision; empty for none.
	From    string  `json:"from,omitempty"`
	FromRev int64   `json:"fromRev,omitempty"`
	Records records `json:"records"`
}

// mostCompared is the number of lines that are compared at once; the newest come first. mostCopies is how many copies
// of copies are followed to find where two lines part.
const (
	mostCompared = 12
	mostCopies   = 4
)

func (m *mirror) otherLineFile(line string) string {
	sum := sha256.Sum256([]byte(line))
	return filepath.Join(m.dir, "lines", hex.EncodeToString(sum[:8])+".json")
}

// otherLine returns what is known of a line; nil if nothing is.
func (m *mirror) otherLine(line string) *otherLine { return m.otherLineIn(m.otherLineFile(line)) }

func (m *mirror) otherLineIn(file string) *otherLine {
	data, err := os.ReadFile(file)
	k := &otherLine{}
	if err != nil || json.Unmarshal(data, k) != nil || k.Records.Version != recordsVersion {
		return nil
	}
	return k
}

// otherLines returns the lines of which revisions are known, by name.
func (m *mirror) otherLines() (out []*otherLine) {
	files, _ := filepath.Glob(filepath.Join(m.dir, "lines", "*.json"))
	for _, file := range files {
		if k := m.otherLineIn(file); k != nil && len(k.Records.Old) > 0 {
			out = append(out, k)
		}
	}
	slices.SortFunc(out, func(a, b *otherLine) int { return strings.Compare(a.Line, b.Line) })
	return out
}

func (m *mirror) putOtherLine(k *otherLine) error {
	data, err := json.Marshal(k)
	if err == nil {
		err = os.MkdirAll(filepath.Join(m.dir, "lines"), 0o700)
	}
	if err == nil {
		err = beside.WriteFile(m.otherLineFile(k.Line), data)
	}
	if err != nil {
		return fmt.Errorf("storing the history: %w", err)
	}
	return nil
}

// commits returns the ids of the known commits of a line, oldest first, with their revisions.
func (k *otherLine) commits(uuid string) (ids []object.ID, revs []int64) {
	for _, rec := range k.Records.Old {
		ids = append(ids, revisionID(uuid, k.Line, object.ID{}, rec.Rev))
		revs = append(revs, rec.Rev)
	}
	return ids, revs
}

// reaches reports whether the line is known back to a revision.
func (k *otherLine) reaches(rev int64) bool {
	return len(k.Records.Old) > 0 && k.Records.Old[0].Rev <= max(rev, k.Born)
}

// on returns what is checked out, as if that was another line at a revision.
func (b *base) on(line string, rev int64) *base {
	return &base{url: strings.TrimSuffix(b.root+"/"+escaped(line), "/"), root: b.root, line: line, uuid: b.uuid,
		nodes: map[string]node{"": {rev: rev, dir: true, depth: "infinity"}}}
}

// NoLineError reports a line that the repository does not have.
type NoLineError struct{ Line string }

func (e *NoLineError) Error() string {
	return fmt.Sprintf("the repository has no folder %s. Nothing was changed", e.Line)
}

// origin asks the repository when a line was made, and as a copy of what.
func (r *courses) origin(ctx context.Context, b *base) (*otherLine, error) {
	var l struct {
		Entries []struct {
			Revision int64 `xml:"revision,attr"`
			Paths    []struct {
				Path string `xml:",chardata"`
				From string `xml:"copyfrom-path,attr"`
				Rev  int64  `xml:"copyfrom-rev,attr"`
			} `xml:"paths>path"`
		} `xml:"logentry"`
	}
	err := r.svn.asked(ctx, func() error {
		return r.svn.xml(ctx, in(r.dir, "asking where the line comes from", "log", "--verbose", "--stop-on-copy",
			"--limit", "1", "-r", "1:HEAD", target(b.url)), &l)
	})
	if gone := (*vcs.Refusal)(nil); errors.As(err, &gone) && gone.Kind == vcs.Missing {
		return nil, &NoLineError{b.line}
	}
	k := &otherLine{Line: b.line, Records: r.mirror.records("")}
	if err != nil || len(l.Entries) == 0 {
		return k, err
	}
	k.Born = l.Entries[0].Revision
	for _, p := range l.Entries[0].Paths { // the folder, or one around it
		top := strings.Trim(p.Path, "/")
		if rest, ok := within(top, b.line); ok && p.From != "" {
			k.From, k.FromRev = strings.Trim(path.Join(strings.Trim(p.From, "/"), rest), "/"), p.Rev
		}
	}
	return k, nil
}

// read reads the revisions of a line back to one at least, or back to where the line was made if that is zero. It asks
// for nothing where all of them are known. The error is a *NoLineError if there is no such line.
func (r *courses) read(ctx context.Context, of *base, line string, back int64) (*otherLine, error) {
	b := of.on(line, back)
	k := r.mirror.otherLine(line)
	last, upto, err := r.there(ctx, b)
	if gone := (*vcs.Refusal)(nil); errors.As(err, &gone) && gone.Kind == vcs.Missing {
		return nil, errors.Join(os.RemoveAll(r.mirror.otherLineFile(line)), &NoLineError{line})
	}
	if err != nil {
		return nil, err
	}
	if k != nil && k.reaches(back) && last <= k.Records.Upto {
		return k, nil
	}
	born, err := r.origin(ctx, b)
	if err != nil {
		return nil, err
	}
	if k == nil || k.Born != born.Born || !k.reaches(back) {
		k = born
		k.Records.URL = b.url
	}
	b = of.on(line, max(back, born.Born))
	if err := r.readWhole(ctx, b, &k.Records, upto); err != nil {
		return nil, err
	}
	k.Records.Upto = max(k.Records.Upto, upto)
	k.Records.forget(upto)
	return k, r.mirror.putOtherLine(k)
}

// readToParting reads a line, and others as far as is needed to find where it and the one that is checked out part.
func (r *courses) readToParting(ctx context.Context, of *base, line string) error {
	if of.partly() {
		return errPartly
	}
	unlock, err := r.mirror.lock()
	if err != nil {
		return err
	}
	defer unlock()
	own := r.mirror.otherLine(of.line)
	if own == nil {
		if own, err = r.origin(ctx, of.on(of.line, 0)); err != nil {
			return err
		}
	}
	back := int64(0)
	if own.From == line {
		back = own.FromRev
	}
	k, err := r.read(ctx, of, line, back)
	if err != nil {
		return err
	}
	if k.From == of.line {
		if err := r.keepAt(ctx, of, own, k.FromRev); err != nil {
			return err
		}
	} else if own.From != line {
		for _, at := range []*otherLine{own, k} {
			for range mostCopies {
				if at.From == "" || at.From == of.line || at.From == line {
					break
				}
				if at, err = r.read(ctx, of, at.From, at.FromRev); err != nil {
					return err
				}
			}
		}
	}
	return r.mirror.putOtherLine(own)
}

// errPartly reports that lines cannot be compared.
var errPartly = errors.New("of a working copy that is large, or that has not all of its folder, other lines are not " +
	"joined. Nothing was changed")

// keepAt keeps what the line that is checked out was in a revision, unless that is known: another line was made of it.
func (r *courses) keepAt(ctx context.Context, b *base, own *otherLine, rev int64) error {
	k := r.mirror.records(b.url)
	for _, rec := range slices.Concat(k.Old, k.List) {
		if rec.Rev <= rev && r.knows(ctx, revisionID(b.uuid, b.line, object.ID{}, rec.Rev)) {
			return nil
		}
	}
	found, err := r.elsewhere(ctx, b, b.line, rev, true)
	if err != nil {
		return err
	}
	tree, err := edited(ctx, r.made, r.made.PutTree(nil), found)
	if err != nil {
		return err
	}
	rec := record{Rev: rev, Log: fmt.Sprintf("Revision %d", rev)}
	own.Records.Old = append(own.Records.Old, rec)
	return r.keepCommit(ctx, revisionID(b.uuid, b.line, object.ID{}, rev), rec.commitOf(tree))
}

// refresh reads what is new on the lines that are known. Those that are gone are forgotten. Of lines at the usual
// places only those are asked for that have something new.
func (r *courses) refresh(ctx context.Context, of *base) error {
	known := slices.DeleteFunc(r.mirror.otherLines(), func(k *otherLine) bool { return k.Line == of.line })
	if len(known) == 0 || of.partly() {
		return nil
	}
	listed, err := r.folders(ctx, of)
	if err != nil {
		return err
	}
	for _, k := range known {
		if slices.ContainsFunc(listed, func(l lineFolder) bool {
			return l.line == k.Line &&
				l.last <= k.Records.Upto
		}) {
			continue
		}
		gone := (*NoLineError)(nil)
		if err := r.readToParting(ctx, of, k.Line); err != nil && !errors.As(err, &gone) {
			return err
		}
	}
	return nil
}

// lineFolder is a folder of the repository that is a line by its place.
type lineFolder struct {
	line string
	last int64 // the revision that changed it last
}

// folders lists the lines at the usual places besides the one that is checked out, the newest first.
func (r *courses) folders(ctx context.Context, b *base) (all []lineFolder, err error) {
	project, usual := b.line, false
	for _, at := range []string{"trunk", "branches", "tags"} {
		if before, _, ok := strings.Cut("/"+b.line+"/", "/"+at+"/"); ok {
			project, usual = strings.Trim(before, "/"), true
		}
	}
	if !usual {
		return nil, nil
	}
	for _, at := range []string{"", "branches"} {
		dir := strings.Trim(path.Join(project, at), "/")
		var l struct {
			Entries []struct {
				Kind   string `xml:"kind,attr"`
				Name   string `xml:"name"`
				Commit struct {
					Revision int64 `xml:"revision,attr"`
				} `xml:"commit"`
			} `xml:"list>entry"`
		}
		err := r.svn.asked(ctx, func() error {
			return r.svn.xml(ctx, in(r.dir, "listing the lines", "list", target(b.on(dir, 0).url)), &l)
		})
		if gone := (*vcs.Refusal)(nil); errors.As(err, &gone) && gone.Kind == vcs.Missing {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range l.Entries {
			line := path.Join(dir, e.Name)
			if e.Kind == "dir" && line != b.line && (at != "" || e.Name == "trunk") {
				all = append(all, lineFolder{line, e.Commit.Revision})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b lineFolder) int { return cmp.Compare(b.last, a.last) })
	return all, nil
}
