package draw

import (
	"image/color"
	"io"
	"time"

	"codeberg.org/go-pdf/fpdf"
)

// pdfCanvas writes PDF, with text in any script that a face has.
type pdfCanvas struct{ *fpdf.Fpdf }

// newPDF begins a document. Its date is fixed, so equal drawings are equal bytes.
func newPDF(title string, w, h float64, cut subsets) (pdfCanvas, error) {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: w, Ht: h}})
	doc.SetCatalogSort(true)
	long := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	doc.SetCreationDate(long)
	doc.SetModificationDate(long)
	doc.SetTitle(title, true)
	doc.SetCreator("Dorvik", true)
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	for f := range faces {
		if cut[f] != nil {
			doc.AddUTF8FontFromBytes(names[f].family, "", f.copy())
		}
	}
	return pdfCanvas{doc}, doc.Error()
}

func (c pdfCanvas) stroke(p path, hue color.RGBA, width float64, dash ...float64) {
	c.SetLineWidth(width)
	c.SetDashPattern(dash, 0)
	c.SetDrawColor(int(hue.R), int(hue.G), int(hue.B))
	c.along(p, "D")
}

func (c pdfCanvas) fill(p path, hue color.RGBA) {
	c.SetFillColor(int(hue.R), int(hue.G), int(hue.B))
	c.along(p, "F")
}

func (c pdfCanvas) along(p path, style string) {
	for _, s := range p {
		switch s.kind {
		case 'M':
			c.MoveTo(s.to.x, s.to.y)
		case 'L':
			c.LineTo(s.to.x, s.to.y)
		case 'C':
			c.CurveBezierCubicTo(s.c[0].x, s.c[0].y, s.c[1].x, s.c[1].y, s.to.x, s.to.y)
		case 'Z':
			c.ClosePath()
		}
	}
	c.DrawPath(style)
}

func (c pdfCanvas) text(f face, size, x, y float64, hue color.RGBA, s string) {
	c.SetTextColor(int(hue.R), int(hue.G), int(hue.B))
	c.SetFont(names[f].family, "", size)
	c.Text(x, y, s)
}

// PDF writes the drawing page by page.
func (d *Drawing) PDF(w io.Writer) error {
	cut, err := subset(d.used())
	if err != nil {
		return err
	}
	c, err := newPDF(d.Title, d.W, d.H, cut)
	if err != nil {
		return err
	}
	for _, pg := range d.Pages {
		c.AddPage()
		p := &painter{c, 0, d.colour, false}
		if d.colour[Paper] != palettes["light"][Paper] { // white needs no background
			p.block(Block{Box: Box{0, 0, d.W, d.H}, Hue: Paper})
		}
		p.page(pg)
	}
	return c.Output(w)
}
