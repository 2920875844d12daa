package svn

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// This file has the XML that svn prints.

// infoEntry is a file or folder as “svn info” describes it.
type infoEntry struct {
	Path      string     `xml:"path,attr"`
	Revision  string     `xml:"revision,attr"` // a number, or words for what is not committed
	Kind      string     `xml:"kind,attr"`
	URL       string     `xml:"url"`
	Relative  string     `xml:"relative-url"`
	Root      string     `xml:"repository>root"`
	UUID      string     `xml:"repository>uuid"`
	Top       string     `xml:"wc-info>wcroot-abspath"`
	Schedule  string     `xml:"wc-info>schedule"`
	Depth     string     `xml:"wc-info>depth"`
	Checksum  string     `xml:"wc-info>checksum"` // SHA-1 of the content in the repository's form
	From      string     `xml:"wc-info>moved-from"`
	Conflicts []conflict `xml:"conflict"`
	Tree      []conflict `xml:"tree-conflict"`
	Commit    struct {
		Revision int64     `xml:"revision,attr"`
		Author   string    `xml:"author"`
		Date     time.Time `xml:"date"`
	} `xml:"commit"`
}

// conflict is what svn keeps of a conflict in a file or folder.
type conflict struct {
	Operation string `xml:"operation,attr"` // update, switch or merge
	Type      string `xml:"type,attr"`      // text or property; tree for another shape
	Versions  []struct {
		Side     string `xml:"side,attr"`
		Revision int64  `xml:"revision,attr"`
		Path     string `xml:"path-in-repos,attr"`
		Kind     string `xml:"kind,attr"`
	} `xml:"version"`
	Mine   string `xml:"prev-wc-file"`   // the files that svn wrote beside the one in conflict:
	Base   string `xml:"prev-base-file"` // what each side had
	Theirs string `xml:"cur-base-file"`
}

type infoList struct {
	Entries []infoEntry `xml:"entry"`
}

// statusEntry is a file or folder that is not as in its revision, as “svn status” describes it.
type statusEntry struct {
	Path string `xml:"path,attr"`
	Is   struct {
		Item     string `xml:"item,attr"`
		Props    string `xml:"props,attr"`
		Revision int64  `xml:"revision,attr"`
		Locked   bool   `xml:"wc-locked,attr"` // by an svn that works here, or that died
		Switched bool   `xml:"switched,attr"`
		Copied   bool   `xml:"copied,attr"`
		Tree     bool   `xml:"tree-conflicted,attr"`
		From     string `xml:"moved-from,attr"`
		To       string `xml:"moved-to,attr"`
	} `xml:"wc-status"`
	list string // the change list that it is in; empty for none
}

type statusList struct {
	Entries []statusEntry `xml:"target>entry"`
	Lists   []struct {
		Name    string        `xml:"name,attr"`
		Entries []statusEntry `xml:"entry"`
	} `xml:"changelist"`
}

// all returns the entries, each with its change list.
func (l *statusList) all() []statusEntry {
	out := l.Entries
	for _, list := range l.Lists {
		for _, e := range list.Entries {
			e.list = list.Name
			out = append(out, e)
		}
	}
	for i := range out {
		out[i].Path = nodePath(out[i].Path)
	}
	slices.SortFunc(out, func(a, b statusEntry) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// propertyList is what “svn proplist -v” prints.
type propertyList struct {
	Targets []propertyTarget `xml:"target"`
}

type propertyTarget struct {
	Path       string     `xml:"path,attr"`
	Properties []property `xml:"property"`
}

type property struct {
	Name     string `xml:"name,attr"`
	Encoding string `xml:"encoding,attr"` // base64, or empty for text
	Value    string `xml:",chardata"`
}

// nodePath returns a path that svn prints as Dorvik has it: with slashes, and empty for the top.
func nodePath(printed string) string {
	if printed == "." {
		return ""
	}
	return filepath.ToSlash(printed)
}

// status asks what is not as in its revision in a working copy.
func (p *program) status(ctx context.Context, dir string) ([]statusEntry, error) {
	var l statusList
	err := p.xml(ctx, in(dir, "reading the working copy", "status", "--ignore-externals", "."), &l)
	return l.all(), err
}

// infoOf asks about some files and folders.
func (p *program) infoOf(ctx context.Context, dir string, paths []string) ([]infoEntry, error) {
	var l infoList
	args := append([]string{"info"}, targets(paths)...)
	err := p.xml(ctx, in(dir, "reading what is in conflict", args...), &l)
	return l.Entries, err
}

// info asks about all files and folders of a working copy.
func (p *program) info(ctx context.Context, dir string) ([]infoEntry, error) {
	var l infoList
	err := p.xml(ctx, in(dir, "reading the working copy", "info", "--depth", "infinity", "."), &l)
	return l.Entries, err
}
