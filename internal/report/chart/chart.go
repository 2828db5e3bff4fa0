// Package chart draws pictures, as PNG or SVG: forecasts, one row an authority and one bar a
// generation over one time axis; and how far a change-over has come.
package chart

import (
	"fmt"
	"image/color"
	"path/filepath"
	"strings"
	"time"

	"ironseal/pki/renewal"
)

var (
	ink      = color.RGBA{R: 0x22, G: 0x2c, B: 0x33, A: 0xff}
	faint    = color.RGBA{R: 0xd8, G: 0xde, B: 0xe2, A: 0xff}
	full     = color.RGBA{R: 0x1f, G: 0x7a, B: 0x5c, A: 0xff}
	shrinks  = color.RGBA{R: 0xd9, G: 0x8a, B: 0x1f, A: 0xff}
	planned  = color.RGBA{R: 0x8f, G: 0xc7, B: 0xb3, A: 0xff}
	plannedS = color.RGBA{R: 0xf2, G: 0xd3, B: 0x9f, A: 0xff}
	today    = color.RGBA{R: 0xb0, G: 0x2a, B: 0x37, A: 0xff}
	paper    = color.RGBA{R: 0xff, G: 0xff, B: 0xff, A: 0xff}
)

// Formats are the endings of the files that Lifetimes writes.
var Formats = []string{"png", "svg"}

// Measures of the picture, in points of a picture that is 1280 wide.
const (
	wide   = 1280
	margin = 24
	titled = 64 // where the rows begin
	tall   = 56 // of a row
	bar    = 34 // of a bar
	foot   = 84 // for the legend and the years
)

// Lifetimes draws a forecast. The format follows from the file's ending.
func Lifetimes(r renewal.Report, title, file string) ([]byte, error) {
	rows := rowsOf(r.Bars)
	height := max(260, titled+tall*len(rows)+foot)
	on, err := newSheet(file, height)
	if err != nil {
		return nil, err
	}
	on.text(ink, 22, centred, wide/2, 34, title)
	d := drawing{sheet: on, rows: rows, now: r.Now, bottom: float64(height - foot)}
	d.draw()
	data, err := on.bytes()
	if err != nil {
		return nil, fmt.Errorf("picture: %w", err)
	}
	return data, nil
}

// newSheet is an empty picture, in the format that a file's ending says.
func newSheet(file string, height int) (on sheet, err error) {
	switch strings.ToLower(strings.TrimPrefix(filepath.Ext(file), ".")) {
	case "png":
		on, err = newPixels(wide, height)
	case "svg":
		on, err = newVectors(wide, height)
	default:
		return nil, fmt.Errorf("%s: a picture's name ends in .png or .svg", file)
	}
	if err != nil {
		return nil, fmt.Errorf("picture: %w", err)
	}
	on.rect(paper, 0, 0, wide, float64(height))
	return on, nil
}

// row is one line of the picture.
type row struct {
	name string
	bars []renewal.Bar
}

// rowsOf gives every authority a row, and another where generations overlap.
func rowsOf(list []renewal.Bar) []row {
	var out []row
	begin := 0
next:
	for i, b := range list {
		if i > 0 && list[i-1].Handle != b.Handle {
			begin = len(out)
		}
		for k := begin; k < len(out); k++ {
			if have := out[k].bars; have[len(have)-1].Until.Before(b.From) {
				out[k].bars = append(have, b)
				continue next
			}
		}
		name := ""
		if len(out) == begin {
			name = b.Handle
		}
		out = append(out, row{name, []renewal.Bar{b}})
	}
	return out
}

// drawing is the picture while it is drawn: time runs from left to right.
type drawing struct {
	sheet
	rows        []row
	now         time.Time
	from, to    time.Time
	left, right float64 // of the axis
	bottom      float64 // of the rows
}

func (d *drawing) draw() {
	d.from, d.to = d.now, d.now
	d.right = wide - margin
	for _, r := range d.rows {
		d.left = max(d.left, d.width(16, r.name))
		for _, x := range r.bars {
			if x.From.Before(d.from) {
				d.from = x.From
			}
			if x.Until.After(d.to) {
				d.to = x.Until
			}
		}
	}
	d.from, d.to = d.from.AddDate(0, -3, 0), d.to.AddDate(0, 9, 0)
	d.left += margin + 14
	d.years()
	for i, r := range d.rows {
		middle := titled + tall*(float64(i)+0.5)
		d.text(ink, 16, right, d.left-14, middle, r.name)
		for _, b := range r.bars {
			d.bar(b, middle)
		}
	}
	now := d.at(d.now)
	d.rect(today, now-1, titled-8, now+1, d.bottom+34)
	d.legend(now, d.bottom+22)
}

// at is where a moment stands.
func (d *drawing) at(t time.Time) float64 {
	return d.left + (d.right-d.left)*t.Sub(d.from).Hours()/d.to.Sub(d.from).Hours()
}

// years draws a line at every first of January that there is room for.
func (d *drawing) years() {
	first, last := d.from.Year()+1, d.to.Year()
	step := 1
	for _, n := range []int{1, 2, 5, 10, 20, 50, 100} {
		if step = n; (last-first)/n <= 16 {
			break
		}
	}
	for y := first; y <= last; y++ {
		x := d.at(time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC))
		if y%step != 0 {
			d.rect(faint, x-0.5, d.bottom+40, x+0.5, d.bottom+46)
			continue
		}
		d.rect(faint, x-0.5, titled-8, x+0.5, d.bottom+46)
		d.text(ink, 14, centred, x, d.bottom+60, fmt.Sprint(y))
	}
}

func (d *drawing) bar(b renewal.Bar, middle float64) {
	from, until := d.at(b.From), d.at(b.Until)
	turn := until
	if !b.ShrinksAt.IsZero() {
		turn = max(from, min(until, d.at(b.ShrinksAt)))
	}
	grants, less, label := full, shrinks, paper
	if b.Scheduled {
		grants, less, label = planned, plannedS, ink
	}
	d.rect(grants, from, middle-bar/2, turn, middle+bar/2)
	d.rect(less, turn, middle-bar/2, until, middle+bar/2)
	if name := fmt.Sprintf("g%d", b.Number); until-from > d.width(14, name)+12 {
		d.text(label, 14, left, from+6, middle, name)
	}
}

func (d *drawing) legend(now, at float64) {
	d.text(today, 14, left, now+6, at, "today "+d.now.Format("2006-01-02"))
	x := d.right - 440
	for _, k := range []struct {
		c    color.RGBA
		text string
	}{{full, "grants in full"}, {shrinks, "grants shrink"}, {planned, "planned"}} {
		d.rect(k.c, x, at-6, x+20, at+6)
		d.text(ink, 14, left, x+26, at, k.text)
		x += 150
	}
}
