package cli

import (
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"

	"ironseal/internal/act/overview"
	"ironseal/internal/act/signing"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/bundle"
	"ironseal/pki/describe"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

func (s *Session) signAll(ctx context.Context, ask signing.SignAsk) error {
	if err := namedWaivers(ask); err != nil {
		return err
	}
	if ask.Template == "" {
		return usage("sign --all needs the template: --template NAME")
	}
	e, err := s.estate(ctx)
	if err != nil {
		return err
	}
	defer roomy()()
	counts, err := overview.Counts(ctx, e)
	if err != nil {
		return err
	}
	count, stop := s.counter("planning", counts.Waiting)
	list, err := signing.PlanAll(ctx, e, ask, count)
	stop()
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return s.nothing("Nothing waits.")
	}
	return s.signPlanned(ctx, e, list)
}

// nothing says that there was nothing to sign; in JSON, by an empty result.
func (s *Session) nothing(words string) error {
	if s.json {
		return s.printJSON(map[string]any{"signed": []describe.Object{}, "failed": []failure{}})
	}
	s.out.Say("%s", words)
	return nil
}

func (s *Session) signManifest(ctx context.Context, ask signing.SignAsk, file string) error {
	if err := namedWaivers(ask); err != nil {
		return err
	}
	e, err := s.estate(ctx)
	if err != nil {
		return err
	}
	rows, err := s.manifest(file)
	if err != nil {
		return err
	}
	list, err := signing.ManifestAsks(ctx, e, rows, ask)
	if err != nil {
		return err
	}
	return s.signMany(ctx, e, list)
}

func (s *Session) manifest(file string) ([]signing.ManifestRow, error) {
	data, err := disk.Read(s.path(file), bundle.MostBytes)
	if err != nil {
		return nil, err
	}
	rows, err := signing.ReadManifest(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("%s: manifest: there are no rows in it", file)
	}
	return rows, nil
}

// While many are signed, the heap may grow between collections, since the
// objects are small and short-lived; bulkMemory is where that ends.
const (
	bulkGC     = 500
	bulkMemory = 172 << 20 // bytes
)

// roomy sets both, and returns what sets them back.
func roomy() (back func()) {
	percent, limit := debug.SetGCPercent(bulkGC), debug.SetMemoryLimit(bulkMemory)
	return func() { debug.SetGCPercent(percent); debug.SetMemoryLimit(limit) }
}

// signMany shows one combined sheet, asks once, and signs what nothing stands
// against. What failed or was refused is told at the end, and in the status.
func (s *Session) signMany(ctx context.Context, e *estate.Estate, list []signing.Planned) error {
	defer roomy()()
	count, stop := s.counter("planning", len(list))
	list, err := signing.PlanMany(ctx, e, list, count)
	stop()
	if err != nil {
		return err
	}
	return s.signPlanned(ctx, e, list)
}

func (s *Session) signPlanned(ctx context.Context, e *estate.Estate, list []signing.Planned) error {
	var agreed []*signing.Sheet
	var failed []failure
	names := map[int64]string{}
	for _, p := range list {
		switch {
		case p.Err != nil:
			failed = append(failed, failure{p.Name, p.Err.Error(), false})
		case len(p.Sheet.Plan.Findings.Refusing()) > 0:
			r := p.Sheet.Plan.Findings.Refusing()
			failed = append(failed, failure{p.Name, fmt.Sprintf("refused by %s: %s", r[0].Code, r[0].Message), true})
		default:
			agreed = append(agreed, p.Sheet)
			names[p.Sheet.Record.Number] = p.Name
		}
	}
	if !s.json {
		s.combinedSheet(list, agreed, failed)
	}
	var done []signing.SignResult
	signed := 0
	if len(agreed) > 0 {
		if err := s.agree(ctx, fmt.Sprintf("Sign as shown: %s?", span.Count(len(agreed), "certificate"))); err != nil {
			return err
		}
		count, stop := s.counter("signing", len(agreed))
		err := signing.Sign(ctx, e, agreed, func(r signing.SignResult) {
			if r.Err != nil {
				failed = append(failed, failure{names[r.Sheet.Record.Number], r.Err.Error(), false})
				return
			}
			signed++
			if s.json {
				done = append(done, r)
			} else {
				s.out.Say("%s R%d %s  serial %s", s.out.Paint(term.Good, "✓"), r.Sheet.Record.Number,
					term.Safe(r.Certificate.Title()), r.Certificate.SerialHex())
			}
			count(signed)
		})
		stop()
		if err != nil {
			return err
		}
	}
	return s.bulkResult(done, signed, failed)
}

// namedWaivers refuses a waiver that would hold for a whole heap: nobody has
// looked at each of them.
func namedWaivers(ask signing.SignAsk) error {
	for _, w := range ask.Waivers {
		if w.Request == 0 {
			return usage("--waive %s: with many requests, name the one it is for: --waive R7:%s", w.Code, w.Code)
		}
	}
	return nil
}

// failure is one row that was not signed.
type failure struct {
	Name    string `json:"name"`
	Why     string `json:"why"`
	refused bool
}

// combinedSheet shows what all have in common, then only what has findings.
func (s *Session) combinedSheet(list []signing.Planned, agreed []*signing.Sheet, failed []failure) {
	o := s.out
	o.Say("%s", o.Paint(term.Strong, fmt.Sprintf("Review sheet: %s", span.Count(len(list), "certificate"))))
	groups := map[string]int{}
	var order []string
	for _, sh := range agreed {
		key := fmt.Sprintf("%s, by %s, until %s", sh.Template.Name, sh.Issuer.Label(),
			sh.Plan.Draft.NotAfter.Format("2006-01-02"))
		if groups[key] == 0 {
			order = append(order, key)
		}
		groups[key]++
	}
	if len(agreed) > 0 {
		o.Say("%s", o.Paint(term.Quiet, "journal "+agreed[0].Head.String()))
	}
	o.Gap()
	for _, k := range order {
		o.Say("  %s %5d  %s", o.Paint(term.Good, "✓ will be signed"), groups[k], k)
	}
	if len(failed) > 0 {
		o.Say("  %s  %5d", o.Paint(term.Bad, "✗ will not be  "), len(failed))
	}
	s.withFindings(agreed)
	s.drawFailures(failed)
	o.Gap()
}

// mostBulkRows is how many findings of one code a combined sheet shows one by one;
// the requests with further ones are named.
const mostBulkRows = 40

// withFindings shows every finding of what will be signed, the weightiest first, by
// code. Nothing is left out: what is not on the sheet would be signed unseen.
func (s *Session) withFindings(agreed []*signing.Sheet) {
	type one struct {
		request int64
		finding finding.Finding
	}
	byCode := map[finding.Code][]one{}
	var codes []one
	for _, sh := range agreed {
		for _, f := range sh.Plan.Findings.Ranked() {
			if byCode[f.Code] == nil {
				codes = append(codes, one{finding: f})
			}
			byCode[f.Code] = append(byCode[f.Code], one{sh.Record.Number, f})
		}
	}
	slices.SortStableFunc(codes, func(a, b one) int { return int(b.finding.Severity - a.finding.Severity) })
	var cells [][]term.Cell
	for _, c := range codes {
		list := byCode[c.finding.Code]
		for _, x := range list[:min(len(list), mostBulkRows)] {
			why := x.finding.Message
			if x.finding.Waived != "" {
				why += " (waived: " + x.finding.Waived + ")"
			}
			tone := term.Careful
			if x.finding.Severity == finding.Note {
				tone = term.Quiet
			}
			cells = append(cells, []term.Cell{{Text: fmt.Sprintf("R%d", x.request), Tone: term.Strong},
				{Text: x.finding.Severity.String(), Tone: tone}, {Text: string(x.finding.Code)}, {Text: why}})
		}
		if more := list[min(len(list), mostBulkRows):]; len(more) > 0 {
			var numbers []int64
			for _, x := range more {
				numbers = append(numbers, x.request)
			}
			cells = append(cells, []term.Cell{{Text: ""}, {Text: ""}, {Text: string(c.finding.Code)},
				{Text: fmt.Sprintf("and %d more: %s", len(more), ranges(numbers))}})
		}
	}
	if len(cells) > 0 {
		s.out.Gap()
		s.out.Table([]string{"request", "", "finding", ""}, cells)
	}
}

// ranges writes numbers of requests, those in a row as one: "R1 to R4, R7".
func ranges(numbers []int64) string {
	slices.Sort(numbers)
	numbers = slices.Compact(numbers)
	var out []string
	for i := 0; i < len(numbers); {
		j := i
		for j+1 < len(numbers) && numbers[j+1] == numbers[j]+1 {
			j++
		}
		if j > i {
			out = append(out, fmt.Sprintf("R%d to R%d", numbers[i], numbers[j]))
		} else {
			out = append(out, fmt.Sprintf("R%d", numbers[i]))
		}
		i = j + 1
	}
	return strings.Join(out, ", ")
}

func (s *Session) drawFailures(failed []failure) {
	if len(failed) == 0 {
		return
	}
	s.out.Gap()
	var cells [][]term.Cell
	for _, f := range failed {
		cells = append(cells, []term.Cell{{Text: "✗", Tone: term.Bad}, {Text: f.Name, Tone: term.Strong},
			{Text: f.Why}})
	}
	s.out.Table([]string{"", "", ""}, cells)
}

// bulkResult says how many were signed and which were not. The status says that
// some were not: 3 when findings refused all of those, else 1.
func (s *Session) bulkResult(done []signing.SignResult, signed int, failed []failure) error {
	if s.json {
		rows := []describe.Object{}
		for _, r := range done {
			rows = append(rows, s.describeSigned(r))
		}
		if err := s.printJSON(map[string]any{"signed": rows, "failed": append([]failure{}, failed...)}); err != nil {
			return err
		}
	} else {
		s.out.Gap()
		s.out.Say("%s %d signed, %d not", s.out.Paint(term.Strong, "Result:"), signed, len(failed))
	}
	if len(failed) == 0 {
		return nil
	}
	code := Refused
	for _, f := range failed {
		if !f.refused {
			code = Failed
		}
	}
	return &status{code, fmt.Errorf("%d of %d were not signed: each is listed above with its reason", len(failed),
		signed+len(failed))}
}

// counter shows how far a bulk act has come, on a terminal.
func (s *Session) counter(what string, total int) (count func(int), stop func()) {
	if s.json || !s.errs.Terminal || total < 50 {
		return func(int) {}, func() {}
	}
	return s.errs.Counter(what, total)
}
