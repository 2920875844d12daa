package draw

import (
	"image"
	"image/color"
	"io"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"
)

// pdfCanvas is a vg.Canvas that writes PDF, with text in any script a face has.
type pdfCanvas struct {
	doc *fpdf.Fpdf
	h   float64
}

// newPDF begins a document. Its date is always the same, so that the same drawing is the same bytes.
func newPDF(title string, w, h float64, cut subsets) (*pdfCanvas, error) {
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
	return &pdfCanvas{doc: doc, h: h}, doc.Error()
}

func (c *pdfCanvas) SetLineWidth(w vg.Length) { c.doc.SetLineWidth(w.Points()) }

func (c *pdfCanvas) SetLineDash(pattern []vg.Length, offset vg.Length) {
	dashes := make([]float64, len(pattern))
	for i, d := range pattern {
		dashes[i] = d.Points()
	}
	c.doc.SetDashPattern(dashes, offset.Points())
}

func (c *pdfCanvas) SetColor(to color.Color) {
	r, g, b, _ := to.RGBA()
	c.doc.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	c.doc.SetDrawColor(int(r>>8), int(g>>8), int(b>>8))
	c.doc.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
}

func (c *pdfCanvas) Stroke(p vg.Path) { c.path(p, "D") }

func (c *pdfCanvas) Fill(p vg.Path) { c.path(p, "F") }

func (c *pdfCanvas) path(p vg.Path, style string) {
	at := func(pt vg.Point) (float64, float64) { return pt.X.Points(), c.h - pt.Y.Points() }
	for _, s := range p {
		x, y := at(s.Pos)
		switch s.Type {
		case vg.MoveComp:
			c.doc.MoveTo(x, y)
		case vg.LineComp:
			c.doc.LineTo(x, y)
		case vg.CurveComp:
			x0, y0 := at(s.Control[0])
			x1, y1 := at(s.Control[1])
			c.doc.CurveBezierCubicTo(x0, y0, x1, y1, x, y)
		case vg.CloseComp:
			c.doc.ClosePath()
		}
	}
	c.doc.DrawPath(style)
}

func (c *pdfCanvas) FillString(f font.Face, at vg.Point, text string) {
	c.doc.SetFont(string(f.Font.Typeface), "", f.Font.Size.Points())
	c.doc.Text(at.X.Points(), c.h-at.Y.Points(), text)
}

// What a drawing has no use for.

func (c *pdfCanvas) Push()                               {}
func (c *pdfCanvas) Pop()                                {}
func (c *pdfCanvas) Rotate(float64)                      {}
func (c *pdfCanvas) Translate(vg.Point)                  {}
func (c *pdfCanvas) Scale(_, _ float64)                  {}
func (c *pdfCanvas) DrawImage(vg.Rectangle, image.Image) {}

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
		c.doc.AddPage()
		p := &painter{c, d.H, d.colour, cut, false}
		if d.colour[Paper] != palettes["light"][Paper] { // white is the paper's own
			p.block(Block{Box: Box{0, 0, d.W, d.H}, Hue: Paper})
		}
		p.page(pg)
	}
	return c.doc.Output(w)
}
