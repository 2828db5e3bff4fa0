package chart

import (
	"bytes"
	"encoding/xml"
	"errors"
	"image/color"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"
)

// The height of what is ready grows from day to day, in proportion; and whatever is given, a
// picture comes of it that can be read.
func TestProgressGrows(t *testing.T) {
	now := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	p := Progress{Title: "A <script> & more", Now: now, Day: now.AddDate(0, 0, 20), Others: 3, Closed: 1,
		Ready: []time.Time{now.AddDate(0, 0, -5), now.AddDate(0, 0, -20), now.AddDate(0, 0, -10)}}
	data, err := p.Draw("x.png")
	if err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	var heights []int // of each column that has any
	for x := img.Bounds().Min.X; x < img.Bounds().Max.X; x++ {
		n := 0
		for y := img.Bounds().Min.Y; y < img.Bounds().Max.Y; y++ {
			r, g, b, _ := img.At(x, y).RGBA()
			if (color.RGBA{R: uint8(r >> 8), G: uint8(g >> 8), B: uint8(b >> 8), A: 0xff}) == full {
				n++
			}
		}
		if n > 20 && (len(heights) == 0 || n > heights[len(heights)-1]+20) {
			heights = append(heights, n)
		}
	}
	if len(heights) != 3 || heights[2] < heights[0]*5/2 || heights[2] > heights[0]*7/2 {
		t.Errorf("%v: it does not grow in three steps", heights)
	}
	for _, p := range []Progress{p, {Title: "nobody", Now: now, Day: now.AddDate(0, 0, -300)},
		{Ready: []time.Time{now.AddDate(-3, 0, 0)}, Now: now, Day: now.AddDate(5, 0, 0)}} {
		data, err := p.Draw("x.svg")
		if err != nil {
			t.Fatal(err)
		}
		d := xml.NewDecoder(bytes.NewReader(data))
		for err == nil {
			_, err = d.Token()
		}
		if !errors.Is(err, io.EOF) {
			t.Error(err)
		}
		if strings.Contains(string(data), "<script>") {
			t.Error("a title is no text in the picture")
		}
	}
	if _, err := p.Draw("x.gif"); err == nil || !strings.Contains(err.Error(), ".png or .svg") {
		t.Error(err)
	}
}
