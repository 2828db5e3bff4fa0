package term

import (
	"slices"
	"strings"
)

// mostCompared bounds the lines that are compared one with another; of longer texts only the middle that differs is
// shown, as a whole.
const mostCompared = 2000

// Difference shows how one text becomes another, line by line: "- " leaves, "+ " comes, "  " stays, with some lines
// around each change. A gap is a line of dots.
func Difference(from, to string, around int) []string {
	a, b := strings.Split(strings.TrimRight(from, "\n"), "\n"), strings.Split(strings.TrimRight(to, "\n"), "\n")
	var out []string
	begin := 0
	for begin < len(a) && begin < len(b) && a[begin] == b[begin] {
		out = append(out, "  "+a[begin])
		begin++
	}
	end := 0
	for end < len(a)-begin && end < len(b)-begin && a[len(a)-1-end] == b[len(b)-1-end] {
		end++
	}
	out = append(out, changed(a[begin:len(a)-end], b[begin:len(b)-end])...)
	for _, line := range a[len(a)-end:] {
		out = append(out, "  "+line)
	}
	return near(out, around)
}

// changed compares two texts by their longest common part.
func changed(a, b []string) (out []string) {
	if len(a) > mostCompared || len(b) > mostCompared {
		for _, line := range a {
			out = append(out, "- "+line)
		}
		for _, line := range b {
			out = append(out, "+ "+line)
		}
		return out
	}
	common := make([][]int, len(a)+1) // of the ends of both from there
	for i := range common {
		common[i] = make([]int, len(b)+1)
	}
	for i := range slices.Backward(a) {
		for j := range slices.Backward(b) {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			out = append(out, "  "+a[i])
			i, j = i+1, j+1
		case i < len(a) && (j == len(b) || common[i+1][j] >= common[i][j+1]):
			out = append(out, "- "+a[i])
			i++
		default:
			out = append(out, "+ "+b[j])
			j++
		}
	}
	return out
}

// near leaves out lines that are far from any change.
func near(lines []string, around int) (out []string) {
	last := -1
	for i := range lines {
		if !slices.ContainsFunc(lines[max(0, i-around):min(len(lines), i+around+1)], func(l string) bool {
			return l[0] != ' '
		}) {
			continue
		}
		if i > last+1 {
			out = append(out, "  …")
		}
		out, last = append(out, lines[i]), i
	}
	if last >= 0 && last < len(lines)-1 {
		out = append(out, "  …")
	}
	return out
}
