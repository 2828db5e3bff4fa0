package chart

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"math"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// align says which point of a text stands at a place.
type align int

const (
	left align = iota
	centred
	right
)

// sheet is what a picture is drawn on, from the upper left corner. A text stands in the
// middle of its height.
type sheet interface {
	rect(c color.RGBA, left, top, right, bottom float64)
	text(c color.RGBA, size float64, a align, x, middle float64, text string)
	width(size float64, text string) float64
	bytes() ([]byte, error)
}

// letters measures and draws text in the one font that there is.
type letters struct {
	font  *opentype.Font
	faces map[float64]font.Face
}

func newLetters() (*letters, error) {
	f, err := opentype.Parse(goregular.TTF)
	return &letters{f, map[float64]font.Face{}}, err
}

func (l *letters) face(size float64) font.Face {
	if f, ok := l.faces[size]; ok {
		return f
	}
	f, err := opentype.NewFace(l.font, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return nil
	}
	l.faces[size] = f
	return f
}

func (l *letters) width(size float64, text string) float64 {
	return float64(font.MeasureString(l.face(size), text)) / 64
}

// pixels is a sheet that becomes a PNG file.
type pixels struct {
	*letters
	image *image.RGBA
}

func newPixels(width, height int) (*pixels, error) {
	l, err := newLetters()
	return &pixels{l, image.NewRGBA(image.Rect(0, 0, width, height))}, err
}

func (p *pixels) rect(c color.RGBA, left, top, right, bottom float64) {
	at := func(v float64) int { return int(math.Round(v)) }
	r := image.Rect(at(left), at(top), at(right), at(bottom))
	if right > left {
		draw.Draw(p.image, r, image.NewUniform(c), image.Point{}, draw.Src)
	}
}

func (p *pixels) text(c color.RGBA, size float64, a align, x, middle float64, text string) {
	switch a {
	case centred:
		x -= p.width(size, text) / 2
	case right:
		x -= p.width(size, text)
	}
	d := font.Drawer{Dst: p.image, Src: image.NewUniform(c), Face: p.face(size),
		Dot: fixed.Point26_6{X: fixed.Int26_6(x * 64), Y: fixed.Int26_6((middle + size*0.35) * 64)}}
	d.DrawString(text)
}

func (p *pixels) bytes() ([]byte, error) {
	var out bytes.Buffer
	err := png.Encode(&out, p.image)
	return out.Bytes(), err
}

// vectors is a sheet that becomes an SVG file. The reader's own font draws its texts;
// ours only measures them.
type vectors struct {
	*letters
	out bytes.Buffer
}

func newVectors(width, height int) (*vectors, error) {
	l, err := newLetters()
	v := &vectors{letters: l}
	fmt.Fprintf(&v.out, `<svg xmlns="http://www.w3.org/2000/svg" width="%[1]d" height="%[2]d" `+
		`viewBox="0 0 %[1]d %[2]d" font-family="sans-serif">`+"\n", width, height)
	return v, err
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

func (v *vectors) rect(c color.RGBA, left, top, right, bottom float64) {
	if right > left {
		fmt.Fprintf(&v.out, `<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" fill="%s"/>`+"\n", left, top,
			right-left,
			bottom-top, hex(c))
	}
}

func (v *vectors) text(c color.RGBA, size float64, a align, x, middle float64, text string) {
	fmt.Fprintf(&v.out, `<text x="%.1f" y="%.1f" font-size="%.0f" text-anchor="%s" fill="%s">`, x, middle+size*0.35,
		size, [...]string{"start", "middle", "end"}[a], hex(c))
	_ = xml.EscapeText(&v.out, []byte(text)) // a buffer takes everything
	v.out.WriteString("</text>\n")
}

func (v *vectors) bytes() ([]byte, error) {
	v.out.WriteString("</svg>\n")
	return v.out.Bytes(), nil
}
