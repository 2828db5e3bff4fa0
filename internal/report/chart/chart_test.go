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

	"ironseal/pki/renewal"
)

func report() renewal.Report {
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	bar := func(handle string, level, n, from, until, shrinks int, planned bool) renewal.Bar {
		return renewal.Bar{Handle: handle, Level: level, Number: n, From: now.AddDate(from, 0, 0),
			Until: now.AddDate(until, 0, 0), ShrinksAt: now.AddDate(shrinks, 0, 0), Scheduled: planned}
	}
	return renewal.Report{Now: now, Bars: []renewal.Bar{bar("root", 0, 1, -14, 1, -4, false),
		bar("root", 0, 2, 0, 15, 10, true), bar("a <b> & c", 1, 1, -2, 1, 0, false),
		bar("a <b> & c", 1, 2, 2, 4, 3, true)}}
}

// The picture shows every colour of the legend, of a size that fits a page.
func TestLifetimesAsPNG(t *testing.T) {
	data, err := Lifetimes(report(), "Lifetimes: Tern Bay Ferries", "x.PNG")
	if err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[color.RGBA]int{}
	for y := img.Bounds().Min.Y; y < img.Bounds().Max.Y; y++ {
		for x := img.Bounds().Min.X; x < img.Bounds().Max.X; x++ {
			r, g, b, a := img.At(x, y).RGBA()
			seen[color.RGBA{R: uint8(r >> 8), G: uint8(g >> 8), B: uint8(b >> 8), A: uint8(a >> 8)}]++
		}
	}
	for what, c := range map[string]color.RGBA{"full": full, "shrinks": shrinks, "planned": planned,
		"planned, shrinking": plannedS, "today": today} {
		t.Run(what, func(t *testing.T) {
			if seen[c] < 100 {
				t.Errorf("%s: %d points of its colour", what, seen[c])
			}
		})
	}
	if w := img.Bounds().Dx(); w < 1000 || w > 2000 {
		t.Errorf("it is %d wide", w)
	}
}

// The drawing is well-formed, whatever a handle holds, and says what it shows.
func TestLifetimesAsSVG(t *testing.T) {
	data, err := Lifetimes(report(), "A <script> & more", "x.svg")
	if err != nil {
		t.Fatal(err)
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	text := ""
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		if c, ok := token.(xml.CharData); ok {
			text += string(c)
		}
		if e, ok := token.(xml.StartElement); ok && e.Name.Local == "script" {
			t.Error("text became an element")
		}
	}
	for _, want := range []string{"root", "g1", "g2", "today 2026-11-23", "grants shrink"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in it", want)
		}
	}
}

func TestOtherFormatsAreRefused(t *testing.T) {
	for _, name := range []string{"x", "x.jpg", ".png.txt", ""} {
		if _, err := Lifetimes(report(), "t", name); err == nil {
			t.Errorf("%q was drawn", name)
		}
	}
	if _, err := Lifetimes(renewal.Report{Now: time.Now()}, "nothing", "x.svg"); err != nil {
		t.Errorf("a picture of nothing: %v", err)
	}
}

func TestRowsAreSharedWhereBarsDoNotTouch(t *testing.T) {
	rows := rowsOf(report().Bars)
	if len(rows) != 3 || rows[0].name != "root" || rows[1].name != "" || len(rows[2].bars) != 2 {
		t.Errorf("%+v", rows)
	}
}
