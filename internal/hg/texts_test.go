package hg

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestChangesetsAsText(t *testing.T) {
	for _, text := range []string{
		strings.Repeat("0", 40) + "\nRuna\n1767261600 -3600\na\nb\n\nsubject\n\nbody",
		strings.Repeat("a", 40) + "\nRuna <r@x>\n0 0 branch:w\\\\i\\nn\x00close:1\n\nempty",
	} {
		c, err := parseChangeset([]byte(text))
		require.NoError(t, err)
		assert.Equal(t, text, string(c.encode()))
	}
	for _, bad := range []string{"x", "zz\nRuna\n0 0\n\nm", strings.Repeat("0", 40) + "\nRuna\nnever\n\nm"} {
		_, err := parseChangeset([]byte(bad))
		assert.Error(t, err, "%q", bad)
	}
}

func TestUsersAreAuthors(t *testing.T) {
	for user, want := range map[string]string{
		"Runa Holm <runa@skerry.example>": "Runa Holm <runa@skerry.example> 0 +0000",
		"runa":                            "runa <> 0 +0000",
		"runa@skerry.example":             " <runa@skerry.example> 0 +0000",
		"Runa Holm":                       "Runa Holm <> 0 +0000",
	} {
		s := signatureOf(&changeset{user: user})
		assert.Equal(t, want, s.String())
		assert.Equal(t, user, userOf(s))
	}
}

// FuzzManifestDelta: a delta brings one manifest to the other.
func FuzzManifestDelta(f *testing.F) {
	f.Add("a b c", "a c d")
	f.Add("", "x")
	f.Fuzz(func(t *testing.T, was, is string) {
		list := func(words string) (out []file) {
			for _, w := range strings.Fields(words) {
				if strings.ContainsAny(w, "\x00\n") {
					t.Skip()
				}
				one := file{path: w, node: node{byte(len(words))}}
				if len(w)%2 == 0 {
					one.flag = 'x'
				}
				out = append(out, one)
			}
			slices.SortFunc(out, func(a, b file) int { return strings.Compare(a.path, b.path) })
			return slices.CompactFunc(out, func(a, b file) bool { return a.path == b.path })
		}
		old, new := list(was), list(is)
		got, err := patched(encodeManifest(old), manifestDelta(old, new))
		require.NoError(t, err)
		assert.Equal(t, string(encodeManifest(new)), string(got))
		back, err := parseManifest(got)
		require.NoError(t, err)
		assert.Equal(t, new, back)
	})
}

// FuzzUnbundle: whatever a bundle holds, it is read or refused.
func FuzzUnbundle(f *testing.F) {
	f.Add([]byte("HG20\x00\x00\x00\x00\x00\x00\x00\x00"))
	f.Add([]byte("HG20\x00\x00\x00\x00\x00\x00\x00\x13\x0bCHANGEGROUP\x00\x00\x00\x00\x00\x00\x00\x00\x00\x04\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_ = unbundle(bytes.NewReader(data), func(string) (func(*revision) error, error) {
			return func(r *revision) error {
				_, err := patched(nil, r.delta)
				return err
			}, nil
		})
	})
}

// FuzzGraftState: whatever hg wrote down, it is read or refused.
func FuzzGraftState(f *testing.F) {
	f.Add("\xa1EnodesX\x81")
	f.Add("\xa2HnewnodesEnodes\x80\x83")
	f.Fuzz(func(t *testing.T, data string) { _, _ = cborLists(data) })
}

// FuzzBegun reads what hg writes down of half-done operations, in any state.
func FuzzBegun(f *testing.F) {
	id, other := strings.Repeat("1a", 20), strings.Repeat("2b", 20)
	f.Add(id + "\n\n" + other + "\n0\n1\n0\nmine\n" + id + ":-1:" + other + "\n" + other + ":" + id + ":" + id + "\n")
	f.Add("v1\n" + id + "\n" + other + "\nTrue\n1\nfold\n" + id + "\n1\n" + id + other + "\nbackup\n")
	f.Add("2\nname=n\noriginalwctx=" + id + "\npendingctx=" + id + "\nparents=" + id + " " + other + "\nkeep=keep\n")
	f.Add("1\n\xa2\x45nodes\x81\x58\x28" + id + "\x48newnodes\x80")
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := parseRebase(text); err == nil {
			assert.LessOrEqual(t, len(s.list), strings.Count(text, ":"))
		}
		if s, err := parseHistedit(text); err == nil {
			assert.LessOrEqual(t, len(s.rules)*2+len(s.replaced), strings.Count(text, "\n")+1)
		}
		if s, err := parseShelved(text); err == nil {
			assert.Len(t, s.parents, 2)
			assert.NotEmpty(t, s.name)
		}
		if s, err := parseGraft(text); err == nil {
			assert.LessOrEqual(t, len(s.list)+len(s.made), len(text))
		}
	})
}
