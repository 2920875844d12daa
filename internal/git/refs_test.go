package git

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/vcs"
)

// TestNamesMeanWhatGitSays: whatever is resolved here is what git resolves, in every place that a name can be of.
func TestNamesMeanWhatGitSays(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	mine := remote.Clone()
	mine.Commit("one", "a", "a\n")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	mine.Git("remote", "set-head", "origin", "main")
	mine.Git("tag", "light")
	mine.Git("tag", "-a", "-m", "heavy", "heavy")
	mine.Git("tag", "-a", "-m", "of a tag", "twice", "heavy")
	mine.Git("branch", "topic/deep")
	mine.Commit("two", "b", "b\n")
	mine.Git("branch", "both")
	mine.Git("tag", "both", "light")
	mine.Git("symbolic-ref", "refs/heads/other-name", "refs/heads/main")
	mine.Git("tag", "tree", "HEAD^{tree}")
	names := []string{"HEAD", "main", "refs/heads/main", "heads/main", "light", "heavy", "twice", "tags/heavy",
		"topic/deep", "both",
		"other-name", "origin", "origin/main", "remotes/origin/main", "tree", "nowhere", "main..light", "main~1",
		"@{u}", "HEAD^0",
		mine.Git("rev-parse", "HEAD"), mine.Git("rev-parse", "HEAD^{tree}"), mine.Git("rev-parse", "heavy"),
		mine.Git("rev-parse", "--short", "HEAD"), "refs/heads", "../config", "config"}
	for _, how := range []string{"loose", "packed", "detached", "borrowing a working tree"} {
		dir := mine.Dir
		switch how {
		case "packed":
			mine.Git("pack-refs", "--all")
			mine.Git("repack", "-adq")
		case "detached":
			mine.Git("checkout", "-q", "--detach", "light")
		case "borrowing a working tree":
			dir = filepath.Join(t.TempDir(), "tree")
			mine.Git("worktree", "add", "-q", dir, "topic/deep")
		}
		r, at := open(t, dir), gittest.At(t, dir)
		plain := 0
		for _, name := range names {
			want, err := at.Try("rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
			got, gerr := r.resolvePlain(name)
			if gerr == nil {
				plain++
				require.NoError(t, err, "%s: %s", how, name)
				assert.Equal(t, want, got.String(), "%s: %s", how, name)
			}
			id, rerr := r.Resolve(t.Context(), name)
			assert.Equal(t, err == nil, rerr == nil, "%s: %s", how, name)
			if err == nil {
				assert.Equal(t, want, id.String())
			}
		}
		assert.Greater(t, plain, 12, "most are plain")
		for line := range strings.Lines(at.Git("for-each-ref", "--format=%(refname) %(objectname)")) {
			name, id, _ := strings.Cut(strings.TrimSpace(line), " ")
			got, err := r.readRef(name)
			require.NoError(t, err)
			assert.Equal(t, id, got.String(), name)
		}
	}
}

// TestWhatABranchFollowsIsWhatGitSays wherever it is found without git, and most often it is.
func TestWhatABranchFollowsIsWhatGitSays(t *testing.T) {
	gittest.Isolate(t)
	remote := gittest.New(t, "--bare")
	mine := remote.Clone()
	mine.Commit("one", "a", "a\n")
	mine.Git("push", "-q", "-u", "origin", "HEAD")
	for set, plain := range map[string]bool{
		"": true, "push.default=upstream": false, "remote.pushdefault=fork": false,
		"branch.main.pushremote=fork":        false,
		"branch.main.merge=refs/heads/other": true, "branch.main.remote=.": false,
		"branch.main.remote=../elsewhere":                       false,
		"remote.origin.fetch=+refs/heads/*:refs/other/*":        false,
		"remote.origin.fetch=+refs/heads/main:refs/remotes/o/m": true,
		"remote.origin.fetch=^refs/heads/x":                     false, "remote.origin.push=refs/heads/*:refs/heads/*": false,
	} {
		key, value, _ := strings.Cut(set, "=")
		if set != "" {
			mine.Git("config", "--replace-all", key, value)
		}
		r := open(t, mine.Dir)
		list, err := r.allSettings(t.Context())
		require.NoError(t, err)
		got := vcs.Branch{Name: "main"}
		assert.Equal(t, plain, r.followPlain(list, &got), set)
		if plain {
			says := vcs.Branch{Name: "main"}
			require.NoError(t, r.followAsked(t.Context(), &says))
			assert.Equal(t, says, got, set)
		}
		for key, value := range map[string]string{"branch.main.merge": "refs/heads/main",
			"branch.main.remote":  "origin",
			"remote.origin.fetch": "+refs/heads/*:refs/remotes/origin/*"} {
			mine.Git("config", "--replace-all", key, value)
		}
		for _, key := range []string{"push.default", "remote.pushdefault", "branch.main.pushremote",
			"remote.origin.push"} {
			_, _ = mine.Try("config", "--unset-all", key)
		}
	}
}

// TestSettingsAreWhatGitReads, of files that are taken in, too; and they are read again when one of the files is another.
func TestSettingsAreWhatGitReads(t *testing.T) {
	gittest.Isolate(t)
	mine, _ := pair(t)
	home, err := os.UserHomeDir()
	require.NoError(t, err)
	more := filepath.Join(t.TempDir(), "more")
	require.NoError(t, os.WriteFile(more, []byte("[Dorvik]\n\tFromElse = \"two  words\" # no\n[a "+
		"\"Sub.Part\"]\n\tx = 1\n"), 0o644))
	mine.Git("config", "include.path", more)
	for _, kv := range [][2]string{{"dorvik.yes", "YES"}, {"dorvik.no", "off"}, {"dorvik.one", "1"}, {"dorvik.k", "1k"},
		{"dorvik.zero", "0"}, {"dorvik.empty", ""}, {"dorvik.bad", "maybe"}, {"dorvik.home", "~/x"}, {"dorvik.user",
			"~root/x"},
		{"dorvik.path", "/a b"}, {"dorvik.lines", "a\nb"}} {
		mine.Git("config", kv[0], kv[1])
	}
	config := filepath.Join(mine.Dir, ".git", "config")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(config, append(text, "[dorvik]\n\tbare\n\tyes\n\tmany = 1\n\tmany = 2\n"...),
		0o644))
	time.Sleep(2 * tick) // so that the files are as old as those of people are
	r := open(t, mine.Dir)
	for _, key := range []string{"dorvik.yes", "DORVIK.No", "dorvik.one", "dorvik.k", "dorvik.zero", "dorvik.empty",
		"dorvik.bad",
		"dorvik.bare", "dorvik.none", "dorvik.fromelse", "a.Sub.Part.X", "a.sub.part.x", "dorvik.lines",
		"dorvik.many"} {
		want, _ := mine.Try("config", "--get", key)
		got, gerr := r.Config(t.Context(), key)
		require.NoError(t, gerr)
		assert.Equal(t, want, strings.TrimSpace(got), key)
		flag, err := mine.Try("config", "--type=bool", "--get", key)
		is, ferr := r.Flag(t.Context(), key)
		assert.Equal(t, err == nil && flag == "true", is, key)
		assert.Equal(t, slices.Contains([]string{"dorvik.bad", "dorvik.fromelse", "dorvik.lines"}, key), ferr != nil,
			key)
	}
	for key, want := range map[string]string{"dorvik.home": filepath.Join(home, "x"), "dorvik.path": "/a b",
		"dorvik.none": "",
		"dorvik.user": mine.Git("config", "--type=path", "--get", "dorvik.user")} {
		got, err := r.ConfigPath(t.Context(), key)
		require.NoError(t, err)
		assert.Equal(t, want, got, key)
	}
	all, err := r.Values(t.Context(), "dorvik.many", false)
	require.NoError(t, err)
	assert.Equal(t, []vcs.Setting{{Name: "dorvik.many", Value: "1", Own: false},
		{Name: "dorvik.many", Value: "2", Own: false}}, all)
	gittest.Own(t, "dorvik.many", "3")
	all, err = r.Values(t.Context(), `^dorvik\.many$`, true)
	require.NoError(t, err)
	assert.Equal(t, vcs.Setting{Name: "dorvik.many", Value: "3", Own: true}, all[0], "what was set since")
	mine.Git("config", "dorvik.path", "/other")
	got, err := r.ConfigPath(t.Context(), "dorvik.path")
	require.NoError(t, err)
	assert.Equal(t, "/other", got)
	_, err = r.Values(t.Context(), "(", true)
	assert.Error(t, err)
}

// TestARepositoryIsFoundAsGitFindsIt: what is found without asking is what git says, and whatever is not plain is asked.
func TestARepositoryIsFoundAsGitFindsIt(t *testing.T) {
	gittest.Isolate(t)
	mine, _ := pair(t)
	mine.Write("d/deep/x", "x\n")
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(filepath.Join(mine.Dir, "d"), link))
	tree := filepath.Join(t.TempDir(), "tree")
	mine.Git("worktree", "add", "-q", "--detach", tree)
	shallow := filepath.Join(t.TempDir(), "shallow")
	mine.Commit("more", "m", "m\n")
	mine.Git("clone", "-q", "--depth=1", "file://"+mine.Dir, shallow)
	elsewhere := gittest.New(t)
	elsewhere.Git("config", "core.worktree", mine.Dir)
	new, odd := gittest.New(t, "--object-format=sha256"), gittest.New(t)
	odd.Git("config", "extensions.odd", "1")
	inner := gittest.At(t, filepath.Join(mine.Dir, "d"))
	inner.Git("init", "-q", "inner")
	for dir, plain := range map[string]bool{mine.Dir: true, filepath.Join(mine.Dir, "d", "deep"): true, link: true,
		filepath.Join(link, "deep"): true, shallow: true, new.Dir: true, filepath.Join(mine.Dir, "d", "inner"): true,
		tree: false, elsewhere.Dir: false, odd.Dir: false, filepath.Join(mine.Dir, ".git"): false,
		filepath.Join(mine.Dir, ".git", "refs"): false, gittest.New(t, "--bare").Dir: false, t.TempDir(): false} {
		got, ok := discover(t.Context(), dir, func(*Early) {})
		assert.Equal(t, plain, ok, dir)
		if !ok {
			continue
		}
		want := newRepo(&Place{Dir: dir})
		require.NoError(t, want.ask(t.Context()))
		assert.Equal(t, []any{want.Dir, want.GitDir, want.Common, want.Format, want.Shallow},
			[]any{got.Dir, got.GitDir, got.Common, got.Format, got.Shallow}, dir)
	}
	t.Setenv("GIT_CEILING_DIRECTORIES", filepath.Dir(mine.Dir))
	_, ok := discover(t.Context(), mine.Dir, func(*Early) {})
	assert.False(t, ok)
}

// TestWhatIsReadEarly: what is there can be read before git has said what a repository is; what is not there git is not asked for
// till then.
func TestWhatIsReadEarly(t *testing.T) {
	mine, _ := pair(t)
	mine.Git("config", "branch.main.remote", "origin")
	times := 0
	early := func(e *Early) {
		times++
		for rev, want := range map[string]string{"main": "main", "HEAD": "main", "": "origin/main", "main~0": "",
			"nowhere": ""} {
			got := e.Resolve(rev)
			if want == "" {
				assert.True(t, got.IsZero(), rev)
				continue
			}
			assert.Equal(t, id(t, mine, want), got, rev)
			kind, _, err := e.Objects().Read(t.Context(), got)
			require.NoError(t, err)
			assert.Equal(t, object.KindCommit, kind)
		}
		nowhere := object.SHA1.Sum(object.KindBlob, []byte("nowhere"))
		_, _, err := e.Objects().Read(t.Context(), nowhere)
		assert.ErrorIs(t, err, errEarly, "which is not to say that it is missing")
		e.Objects().ReadMany(t.Context(), []object.ID{nowhere}, func(object.ID, object.Kind,
			[]byte) {
			t.Error("it is nowhere")
		})
		for _, b := range e.Objects().pool.all {
			assert.Nil(t, b.in, "no process was started")
		}
	}
	var last *Early
	r, err := OpenEarly(t.Context(), mine.Dir, func(e *Early) { early(e); last = e })
	require.NoError(t, err)
	defer r.Close()
	assert.True(t, last.Is(r))
	// Of a repository by another hash nothing tells before there is a commit.
	r, err = OpenEarly(t.Context(), gittest.New(t, "--object-format=sha256").Dir, func(e *Early) { last = e })
	require.NoError(t, err)
	defer r.Close()
	assert.False(t, last.Is(r))
	assert.Equal(t, object.SHA256, r.Format)
	_, err = OpenEarly(t.Context(), gittest.New(t, "--bare").Dir, early)
	assert.ErrorIs(t, err, ErrBare)
	assert.Equal(t, 1, times)
}
