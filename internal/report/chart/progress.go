package chart

import (
	"fmt"
	"slices"
	"time"
)

// Progress is what a picture of a change-over shows.
type Progress struct {
	Title  string
	Ready  []time.Time // the day of each party that is ready
	Others int         // not ready, or unknown
	Closed int         // that cannot learn
	Now    time.Time
	Day    time.Time // the switch day
}

// Measures of the picture.
const (
	progressTall = 520
	progressFoot = 96
)

// Draw draws how many parties were ready on which day. The format follows from the file's
// ending.
func (p Progress) Draw(file string) ([]byte, error) {
	on, err := newSheet(file, progressTall)
	if err != nil {
		return nil, err
	}
	on.text(ink, 22, centred, wide/2, 34, p.Title)
	days := slices.SortedFunc(slices.Values(p.Ready), time.Time.Compare)
	d := drawing{sheet: on, now: p.Now, bottom: progressTall - progressFoot, left: margin + 90,
		right: wide - margin - 20,
		from:  p.Now, to: p.Day}
	if len(days) > 0 && days[0].Before(d.from) {
		d.from = days[0]
	}
	if p.Now.After(d.to) {
		d.to = p.Now
	}
	d.from, d.to = d.from.AddDate(0, 0, -3), d.to.AddDate(0, 0, 7)
	p.areas(&d, days)
	p.lines(&d, len(days))
	data, err := on.bytes()
	if err != nil {
		return nil, fmt.Errorf("picture: %w", err)
	}
	return data, nil
}

// height is where a number of parties stands.
func (p Progress) height(d *drawing, parties int) float64 {
	all := max(1, len(p.Ready)+p.Others+p.Closed)
	return d.bottom - (d.bottom-titled-20)*float64(parties)/float64(all)
}

// areas fills what was ready from day to day, and what can never be.
func (p Progress) areas(d *drawing, days []time.Time) {
	now := d.at(p.Now)
	d.rect(faint, d.left, p.height(d, len(days)+p.Others), d.right, d.bottom)
	if p.Closed > 0 {
		d.rect(plannedS, d.left, p.height(d, len(days)+p.Others+p.Closed), d.right, p.height(d, len(days)+p.Others))
	}
	for i, day := range days {
		until := now
		if i+1 < len(days) {
			until = d.at(days[i+1])
		}
		d.rect(full, d.at(day), p.height(d, i+1), max(until, d.at(day)), d.bottom)
	}
}

// lines draws the axes, today and the switch day.
func (p Progress) lines(d *drawing, ready int) {
	all := ready + p.Others + p.Closed
	for _, n := range []int{0, ready, all} {
		d.text(ink, 14, right, d.left-10, p.height(d, n), fmt.Sprint(n))
	}
	step := 1
	for (d.to.Sub(d.from).Hours()/24)/float64(step) > 12 {
		step += 7 - step%7
	}
	for t := d.from; t.Before(d.to); t = t.AddDate(0, 0, step) {
		d.rect(ink, d.at(t)-0.5, d.bottom, d.at(t)+0.5, d.bottom+6)
		d.text(ink, 13, centred, d.at(t), d.bottom+20, t.Format("01-02"))
	}
	for _, l := range []struct {
		at   time.Time
		text string
	}{{p.Now, "today " + p.Now.Format("2006-01-02")}, {p.Day, "switch day " + p.Day.Format("2006-01-02")}} {
		x := d.at(l.at)
		d.rect(today, x-1, titled, x+1, d.bottom)
		side, at := left, x+6
		if x > (d.left+d.right)/2 {
			side, at = right, x-6
		}
		d.text(today, 14, side, at, titled+10, l.text)
	}
	words := fmt.Sprintf("%d of %d ready", ready, all)
	if p.Others > 0 {
		words += fmt.Sprintf(", %d not, or unknown", p.Others)
	}
	if p.Closed > 0 {
		words += fmt.Sprintf(", %d cannot learn", p.Closed)
	}
	d.text(ink, 18, centred, wide/2, d.bottom+60, words)
}
