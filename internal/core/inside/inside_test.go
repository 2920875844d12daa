package inside

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/image/font/gofont/goregular"
)

func zipped(t *testing.T, files ...string) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		require.NoError(t, err)
		_, err = w.Write([]byte(files[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return out.Bytes()
}

func tarred(t *testing.T, names ...string) []byte {
	var out bytes.Buffer
	g := gzip.NewWriter(&out)
	w := tar.NewWriter(g)
	for _, name := range names {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Mode: 0o644}))
	}
	require.NoError(t, w.Close())
	require.NoError(t, g.Close())
	return out.Bytes()
}

// wave is a second and a half of silence.
func wave() []byte {
	out := []byte("RIFF....WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00")
	out = binary.LittleEndian.AppendUint32(out, 8000)
	out = binary.LittleEndian.AppendUint32(out, 8000)
	out = append(out, 1, 0, 8, 0)
	out = append(out, "data"...)
	return append(binary.LittleEndian.AppendUint32(out, 12000), make([]byte, 12000)...)
}

func TestOf(t *testing.T) {
	for _, c := range []struct {
		name string
		data []byte
		want Contents
	}{
		{"a zip archive", zipped(t, "b.txt", "x", "a/c.txt", "y"), Contents{"an archive of 2 files",
			[]string{"a/c.txt", "b.txt"}}},
		{"a text document", zipped(t, "word/document.xml", "<w><p>Winter  timetable</p><p>Lunn</p></w>", "x.rels", ""),
			Contents{"a document of 3 words", []string{"Winter", "timetable", "Lunn"}}},
		{"an open document", zipped(t, "content.xml", "<o>Tides</o>"), Contents{"a document of 1 word",
			[]string{"Tides"}}},
		{"a damaged document", zipped(t, "content.xml", "<o>Tides <"), Contents{"a document of 1 word",
			[]string{"Tides"}}},
		{"a packed archive", tarred(t, "b", "a"), Contents{"an archive of 2 files", []string{"a", "b"}}},
		{"a PDF", []byte("%PDF-1.4 /Type /Pages /Type /Page\n/Type/Page>> /Title (Tides \\(low\\))"),
			Contents{"a PDF of 2 pages, “Tides \\(low\\)”", []string{"2 pages", "title Tides \\(low\\)"}}},
		{"a packed PDF", []byte("%PDF-1.7 x"), Contents{About: "a PDF"}},
		{"a sound", wave(), Contents{"a sound of 1.5s", []string{"length 1.5s"}}},
		{"a font", goregular.TTF, Contents{"a font, Go Regular, of 712 glyphs", []string{"Go Regular", "712 glyphs"}}},
		{"anything", []byte{0, 1, 2, 3}, Contents{}},
	} {
		assert.Equal(t, c.want, Of(c.data), c.name)
	}
}

func TestChanged(t *testing.T) {
	added, gone := Changed(Contents{Lines: []string{"a", "b", "c"}}, Contents{Lines: []string{"a", "x", "c", "d"}})
	assert.Equal(t, []string{"x", "d"}, added)
	assert.Equal(t, []string{"b"}, gone)
}

// FuzzOf: a damaged file costs neither a panic nor time.
func FuzzOf(f *testing.F) {
	f.Add(wave())
	f.Add([]byte("%PDF-1.4 /Title (a"))
	f.Add([]byte("PK\x03\x04"))
	f.Fuzz(func(_ *testing.T, data []byte) { Of(data) })
}
