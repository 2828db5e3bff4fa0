// Package chart draws forecasts as pictures: one row an authority, one bar a
// generation, over one time axis, as PNG or SVG.
package chart

import (
	"bytes"
	"fmt"
	"image/color"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"ironseal/pki/renewal"
)

var (
	ink      = color.RGBA{0x22, 0x2c, 0x33, 0xff}
	faint    = color.RGBA{0xd8, 0xde, 0xe2, 0xff}
	full     = color.RGBA{0x1f, 0x7a, 0x5c, 0xff}
	shrinks  = color.RGBA{0xd9, 0x8a, 0x1f, 0xff}
	planned  = color.RGBA{0x8f, 0xc7, 0xb3, 0xff}
	plannedS = color.RGBA{0xf2, 0xd3, 0x9f, 0xff}
	today    = color.RGBA{0xb0, 0x2a, 0x37, 0xff}
)

// Formats are the endings of the files that Lifetimes writes.
var Formats = []string{"png", "svg"}

// Lifetimes draws a forecast. The format follows from the file's ending.
func Lifetimes(r renewal.Report, title, file string) ([]byte, error) {
	format := strings.ToLower(strings.TrimPrefix(filepath.Ext(file), "."))
	if format != "png" && format != "svg" {
		return nil, fmt.Errorf("%s: a picture's name ends in .png or .svg", file)
	}
	rows := rowsOf(r.Bars)
	p := plot.New()
	p.BackgroundColor = color.White
	p.Title.Text, p.Title.Padding = title, vg.Points(10)
	p.Title.TextStyle.Font.Size, p.Title.TextStyle.Color = vg.Points(15), ink
	for _, st := range []*text.Style{&p.Title.TextStyle, &p.X.Tick.Label, &p.Y.Tick.Label} {
		st.Font.Variant = "Sans"
	}
	p.X.Tick.Marker = years{}
	p.X.Tick.Label.Font.Size, p.Y.Tick.Label.Font.Size = vg.Points(10), vg.Points(11)
	p.Y.LineStyle.Width, p.Y.Tick.Length = 0, 0
	b := bars{rows: rows, now: r.Now}
	p.Y.Min, p.Y.Max = -0.9, float64(len(rows))-0.3
	p.Y.Tick.Marker = plot.ConstantTicks(b.names())
	p.Add(b)
	from, to := b.reach()
	p.X.Min, p.X.Max = seconds(from.AddDate(0, -3, 0)), seconds(to.AddDate(0, 9, 0))
	w, err := draw.NewFormattedCanvas(vg.Points(960), vg.Points(max(220, 130+42*float64(len(rows)))), format)
	if err != nil {
		return nil, fmt.Errorf("picture: %w", err)
	}
	c := draw.New(w)
	fill(c, color.White, c.Min.X, c.Max.X, c.Min.Y, c.Max.Y)
	p.Draw(draw.Crop(c, vg.Points(16), -vg.Points(16), vg.Points(10), -vg.Points(10)))
	var out bytes.Buffer
	if _, err := w.WriteTo(&out); err != nil {
		return nil, fmt.Errorf("picture: %w", err)
	}
	return out.Bytes(), nil
}

func seconds(t time.Time) float64 { return float64(t.Unix()) }

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

// years marks every first of January that there is room for.
type years struct{}

// Ticks implements plot.Ticker.
func (years) Ticks(min, max float64) []plot.Tick {
	from, to := time.Unix(int64(min), 0).UTC().Year()+1, time.Unix(int64(max), 0).UTC().Year()
	step := 1
	for _, n := range []int{1, 2, 5, 10, 20, 50, 100} {
		if step = n; (to-from)/n <= 16 {
			break
		}
	}
	var out []plot.Tick
	for y := from; y <= to; y++ {
		t := plot.Tick{Value: seconds(time.Date(y, 1, 1, 0, 0, 0, 0, time.UTC))}
		if y%step == 0 {
			t.Label = fmt.Sprint(y)
		}
		out = append(out, t)
	}
	return out
}

// bars draws the rows, the first on top.
type bars struct {
	rows []row
	now  time.Time
}

func (b bars) names() []plot.Tick {
	var out []plot.Tick
	for i, r := range b.rows {
		if r.name != "" {
			out = append(out, plot.Tick{Value: b.height(i), Label: r.name})
		}
	}
	return out
}

func (b bars) height(row int) float64 { return float64(len(b.rows) - 1 - row) }

func (b bars) reach() (from, to time.Time) {
	from, to = b.now, b.now
	for _, r := range b.rows {
		for _, x := range r.bars {
			if x.From.Before(from) {
				from = x.From
			}
			if x.Until.After(to) {
				to = x.Until
			}
		}
	}
	return from, to
}

// Plot implements plot.Plotter.
func (b bars) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	for _, t := range (years{}).Ticks(p.X.Min, p.X.Max) {
		if t.Label != "" {
			c.StrokeLine2(draw.LineStyle{Color: faint, Width: vg.Points(0.7)}, x(t.Value), c.Min.Y, x(t.Value), c.Max.Y)
		}
	}
	style := text.Style{Color: color.White, Font: font.Font{Typeface: "Liberation", Variant: "Sans",
		Size: vg.Points(9)}, XAlign: draw.XLeft, YAlign: draw.YCenter, Handler: plot.DefaultTextHandler}
	for i, r := range b.rows {
		low, high := y(b.height(i)-0.3), y(b.height(i)+0.3)
		for _, bar := range r.bars {
			from, until := x(seconds(bar.From)), x(seconds(bar.Until))
			turn := until
			if !bar.ShrinksAt.IsZero() {
				turn = max(from, min(until, x(seconds(bar.ShrinksAt))))
			}
			a, z := full, shrinks
			if bar.Scheduled {
				a, z = planned, plannedS
			}
			fill(c, a, from, turn, low, high)
			fill(c, z, turn, until, low, high)
			label := style
			if bar.Scheduled {
				label.Color = ink
			}
			if until-from > vg.Points(20) {
				c.FillText(label, vg.Point{X: from + vg.Points(4), Y: (low + high) / 2}, fmt.Sprintf("g%d", bar.Number))
			}
		}
	}
	now := x(seconds(b.now))
	c.StrokeLine2(draw.LineStyle{Color: today, Width: vg.Points(1.2)}, now, c.Min.Y, now, c.Max.Y)
	b.legend(c, style, now, y(-0.75))
}

func (b bars) legend(c draw.Canvas, style text.Style, now, at vg.Length) {
	style.Color = today
	c.FillText(style, vg.Point{X: now + vg.Points(4), Y: at}, "today "+b.now.Format("2006-01-02"))
	left := c.Max.X - vg.Points(330)
	for _, k := range []struct {
		c    color.RGBA
		text string
	}{{full, "grants in full"}, {shrinks, "grants shrink"}, {planned, "planned"}} {
		fill(c, k.c, left, left+vg.Points(14), at-vg.Points(4), at+vg.Points(4))
		style.Color = ink
		c.FillText(style, vg.Point{X: left + vg.Points(18), Y: at}, k.text)
		left += vg.Points(110)
	}
}

func fill(c draw.Canvas, k color.Color, left, right, low, high vg.Length) {
	if right > left {
		c.FillPolygon(k, []vg.Point{{X: left, Y: low}, {X: right, Y: low}, {X: right, Y: high}, {X: left, Y: high}})
	}
}
