package draw

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// halves is a picture that is red above and blue below.
func halves(w, h int) image.Image {
	img := image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{color.RGBA{R: 255, A: 255},
		color.RGBA{B: 255, A: 255}})
	for y := h / 2; y < h; y++ {
		for x := range w {
			img.SetColorIndex(x, y, 1)
		}
	}
	return img
}

func TestPhoto(t *testing.T) {
	red, blue := color.RGBA{R: 255, A: 255}, color.RGBA{B: 255, A: 255}
	for name, write := range map[string]func(b *bytes.Buffer) error{
		"png":  func(b *bytes.Buffer) error { return png.Encode(b, halves(40, 20)) },
		"gif":  func(b *bytes.Buffer) error { return gif.Encode(b, halves(40, 20), nil) },
		"jpeg": func(b *bytes.Buffer) error { return jpeg.Encode(b, halves(40, 20), nil) },
	} {
		var b bytes.Buffer
		require.NoError(t, write(&b))
		p, ok := OpenPhoto(b.Bytes())
		require.True(t, ok, name)
		assert.Equal(t, []any{name, 40, 20}, []any{p.Format, p.Width, p.Height})
		cells := p.Cells(20, 20, color.Black)
		require.Len(t, cells, 5, "it keeps its shape: 20 by 10 pixels")
		require.Len(t, cells[0], 20)
		if name != "jpeg" {
			assert.Equal(t, Cell{red, red}, cells[0][0])
			assert.Equal(t, Cell{blue, blue}, cells[4][19])
		}
		assert.Len(t, p.Cells(400, 400, color.Black), 10, "it is never made larger than it is")
		assert.Empty(t, p.Cells(0, 5, color.Black))

		p, ok = OpenPhoto(b.Bytes()[:b.Len()-b.Len()/8])
		require.True(t, ok, "its head tells its size")
		assert.NotPanics(t, func() { p.Cells(5, 5, color.Black) })
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, halves(2, 2)))
	data := b.Bytes()
	binary.BigEndian.PutUint32(data[16:], 60000) // it claims to be very wide, and very high
	binary.BigEndian.PutUint32(data[20:], 60000)
	binary.BigEndian.PutUint32(data[29:], crc32.ChecksumIEEE(data[12:29]))
	p, ok := OpenPhoto(data)
	require.True(t, ok)
	assert.Equal(t, 60000, p.Width)
	assert.Empty(t, p.Cells(5, 5, color.Black), "that is not unpacked")
	_, ok = OpenPhoto([]byte("no picture"))
	assert.False(t, ok)
	for data, kind := range map[string]string{"%PDF-1.4": "PDF", "\x1f\x8b\x08": "GZIP", "\x00\x01\x02": "", "text": "",
		"ID3\x03": "MP3 audio", "RIFF1234WEBPVP8": "WEBP image", "1234ftypisom": "MP4 video", "RIFF": ""} {
		assert.Equal(t, kind, KindOf([]byte(data)))
	}
}

// FuzzPhoto: whatever a file says it is, it is read or not, and drawn within the room there is.
func FuzzPhoto(f *testing.F) {
	var b bytes.Buffer
	img := image.NewGray(image.Rect(0, 0, 5, 3))
	require.NoError(f, png.Encode(&b, img))
	f.Add(b.Bytes())
	f.Add([]byte("GIF89a\xff\xff\xff\xff\x80\x00\x00"))
	f.Add([]byte("II*\x00\x08\x00\x00\x00\x01\x00\x00\x01\x04\x00\x01\x00\x00\x00\xff\xff\xff\xff"))
	f.Add([]byte("RIFF\xff\xff\xff\xffWEBPVP8X\x0a\x00\x00\x00\x00\x00\x00\x00\xff\xff\xff\xff\xff\xff"))
	f.Add([]byte("BM\xff\xff\xff\xff\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00\xff\xff\xff\x7f\xff\xff\xff\x7f\x01\x00\x18\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, ok := OpenPhoto(data)
		if !ok {
			return
		}
		cells := p.Cells(40, 20, color.Black)
		if len(cells) > 20 || len(cells) > 0 && len(cells[0]) > 40 {
			t.Fatalf("%d×%d cells", len(cells), len(cells[0]))
		}
	})
}
