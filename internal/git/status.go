package git

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/vcs"
)

// Status reads the branch and the uncommitted work. It writes nothing.
func (r *Refs) Status(ctx context.Context) (vcs.Branch, []vcs.Dirty, error) {
	out, err := r.run(ctx, "reading the status", "status", "--porcelain=v2", "--branch", "-z",
		"--untracked-files=normal", "--no-renames", "--ignore-submodules=dirty")
	if err != nil {
		return vcs.Branch{}, nil, err
	}
	b, dirty, err := parseStatus(out)
	if err != nil || b.Name == "" {
		return b, dirty, err
	}
	return b, dirty, r.readUpstream(ctx, &b)
}

// Current reads the branch without uncommitted work, which takes long to find in a large working tree.
func (r *Refs) Current(ctx context.Context) (vcs.Branch, error) {
	var b vcs.Branch
	if name, ok := r.head(); ok {
		if id, err := r.readRef("refs/heads/" + name); err == nil && !id.IsZero() {
			b.Name, b.Tip = name, id
			return b, r.readUpstream(ctx, &b)
		}
	}
	if id, ok := r.detached(); ok {
		b.Tip = id
		return b, nil
	}
	// On an unborn branch this command fails.
	out, err := r.run(ctx, "looking where you are", "rev-parse", "HEAD", "--symbolic-full-name", "HEAD")
	if err != nil {
		b, _, err = r.Status(ctx)
		return b, err
	}
	tip, name, _ := strings.Cut(strings.TrimSuffix(out, "\n"), "\n")
	if b.Tip, err = object.ParseID(tip); err != nil {
		return b, fmt.Errorf("looking where you are: %w", err)
	}
	var on bool
	if b.Name, on = strings.CutPrefix(name, "refs/heads/"); !on {
		b.Name = ""
		return b, nil
	}
	return b, r.readUpstream(ctx, &b)
}

// Named returns a branch by its name, even if it is not checked out.
func (r *Refs) Named(ctx context.Context, name string) (vcs.Branch, error) {
	b := vcs.Branch{Name: name}
	var err error
	if b.Tip, err = r.Ref(ctx, b.Full()); err != nil {
		return b, err
	}
	return b, r.readUpstream(ctx, &b)
}

// readUpstream returns the upstream of a branch.
func (r *Refs) readUpstream(ctx context.Context, b *vcs.Branch) error {
	list, err := r.config.allSettings(ctx)
	if err != nil || !r.followPlain(list, b) {
		if err := r.followAsked(ctx, b); err != nil {
			return err
		}
	}
	b.Doubt = doubt(list, b)
	return nil
}

// doubt returns why “git push” would refuse to choose a destination, or an empty string.
func doubt(list []setting, b *vcs.Branch) string {
	set := map[string]string{}
	for _, s := range list {
		set[s.key] = s.value
	}
	at := cmp.Or(set["branch."+b.Name+".pushremote"], set["remote.pushdefault"], string(b.Remote))
	if b.Upstream == "" || set["remote."+at+".push"] != "" {
		return ""
	}
	switch set["push.default"] {
	case "nothing":
		return "push.default is “nothing”"
	case "upstream", "tracking":
		if at != string(b.Remote) {
			return "push.default is “upstream”, and the branch is pushed to another remote than it follows"
		}
	case "", "simple":
		if at == string(b.Remote) && b.Ref != b.Full() {
			return "the upstream has another name than the branch"
		}
	}
	return ""
}

// followAsked asks git for the upstream of a branch.
func (r *Refs) followAsked(ctx context.Context, b *vcs.Branch) error {
	out, err := r.run(ctx, "reading what "+b.Name+" follows", "for-each-ref",
		"--format=%(upstream:short)%00%(upstream)%00%(upstream:remotename)%00%(upstream:remoteref)%00"+
			"%(push:short)%00%(push)%00%(push:remotename)%00%(push:remoteref)", b.Full())
	if err != nil {
		return err
	}
	if f := strings.Split(strings.TrimSuffix(out, "\n"), "\x00"); len(f) == 8 {
		b.Upstream, b.Tracking, b.Remote, b.Ref = f[0], f[1], vcs.Remote(f[2]), f[3]
		d := vcs.Line{Name: f[4], Tracking: f[5], Remote: vcs.Remote(f[6]), Ref: f[7]}
		if d.Tracking == "" && d.Remote != "" && d.Remote != b.Remote {
			// For push.default=simple git reports no ref; it pushes to the same name.
			at := string(d.Remote)
			if strings.Contains(at, "://") { // a URL has no local copy
				at = d.Remote.Key()
			}
			d.Name, d.Tracking, d.Ref = d.Remote.String()+"/"+b.Name, "refs/remotes/"+at+"/"+b.Name, b.Full()
		}
		if d.Tracking != "" && d.Tracking != b.Tracking {
			if d.Ref == "" { // the branch's own name
				d.Ref = b.Full()
			}
			b.Dest = d
		}
	}
	return nil
}

// Follow sets the upstream of a branch.
func (r *Refs) Follow(ctx context.Context, branch string, remote vcs.Remote, ref string) error {
	for _, kv := range [][2]string{{"remote", string(remote)}, {"merge", ref}} {
		if _, err := r.run(ctx, "having "+branch+" follow "+remote.String(), "config", "branch."+branch+"."+kv[0],
			kv[1]); err != nil {
			return err
		}
	}
	return nil
}

func parseStatus(out string) (b vcs.Branch, dirty []vcs.Dirty, err error) {
	for rec := range strings.SplitSeq(out, "\x00") {
		kind, rest, _ := strings.Cut(rec, " ")
		switch kind {
		case "#":
			key, value, _ := strings.Cut(rest, " ")
			switch key {
			case "branch.oid":
				if value != "(initial)" {
					if b.Tip, err = object.ParseID(value); err != nil {
						return b, nil, fmt.Errorf("reading the status: %w", err)
					}
				}
			case "branch.head":
				if value != "(detached)" {
					b.Name = value
				}
			}
		case "1", "u":
			n := 8
			if kind == "u" {
				n = 10
			}
			f := strings.SplitN(rest, " ", n)
			if len(f) < n || len(f[0]) < 2 {
				return b, nil, fmt.Errorf("reading the status: git answered %q", rec)
			}
			d := vcs.Dirty{Path: f[n-1], Staged: f[0][0] != '.', Unstaged: f[0][1] != '.', Conflict: kind == "u"}
			modes, ids := f[3:4], f[6:7] // mode and id in the index
			if d.Conflict {
				modes, ids = f[2:5], f[6:9] // base, HEAD's side, the other
			}
			stages, err := parseStages(modes, ids)
			if err != nil {
				return b, nil, fmt.Errorf("reading the status: %w", err)
			}
			if d.Conflict {
				d.Stages = stages
			} else {
				d.Index = stages[0]
			}
			dirty = append(dirty, d)
		case "?":
			dirty = append(dirty, vcs.Dirty{Path: rest, Untracked: true})
		}
	}
	return b, dirty, nil
}

// parseStages parses the modes and ids of a conflict. A missing stage has mode 0.
func parseStages(modes, ids []string) (out [3]object.Entry, err error) {
	for i := range modes {
		mode, err := strconv.ParseUint(modes[i], 8, 32)
		if err != nil {
			return out, err
		}
		if mode == 0 {
			continue
		}
		if out[i].ID, err = object.ParseID(ids[i]); err != nil {
			return out, err
		}
		out[i].Mode = object.Mode(mode)
	}
	return out, nil
}
