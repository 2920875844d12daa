package svn

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/svntest"
)

// BenchmarkLook looks at a working copy of 5,000 files, for the first time and again, beside what svn takes to say what
// is out of date.
func BenchmarkLook(b *testing.B) {
	svntest.Isolate(b)
	url := svntest.Repository(b)
	ilka := svntest.Checkout(b, url+"/trunk", "ilka")
	for n := range 5000 {
		ilka.Write(fmt.Sprintf("d%d/f%d.go", n%50, n), fmt.Sprintf("package d%d\n\nconst F%d = %d\n", n%50, n, n*n))
	}
	ilka.Commit("start")
	runa := svntest.Checkout(b, url+"/trunk", "runa")
	for n := range 20 {
		ilka.Write(fmt.Sprintf("d%d/f%d.go", n, n), "package other\n")
		ilka.Commit("theirs")
		runa.Write(fmt.Sprintf("d%d/f%d.go", n+20, n+20), "package mine\n")
	}
	runa.Write("d0/new.go", "package d0\n")
	runa.Svn("add", "-q", "d0/new.go")
	look := func(b *testing.B) {
		r, err := Open(ctx, runa.Dir)
		require.NoError(b, err)
		defer r.Close()
		require.NoError(b, r.Fetch(ctx, repository))
		_, err = r.look(ctx)
		require.NoError(b, err)
	}
	b.Run("first", func(b *testing.B) {
		for range b.N {
			b.StopTimer()
			require.NoError(b, os.RemoveAll(filepath.Join(runa.Dir, ".svn/dorvik")))
			b.StartTimer()
			look(b)
		}
	})
	b.Run("again", func(b *testing.B) {
		for range b.N {
			look(b)
		}
	})
	b.Run("svn", func(b *testing.B) {
		for range b.N {
			runa.Svn("status", "-u")
		}
	})
}
