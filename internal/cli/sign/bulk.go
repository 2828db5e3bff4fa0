package sign

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/keystore"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/finding"
	"ironseal/pki/span"
)

func signAll(ctx context.Context, s *session.Session, ask signing.SignAsk) error {
	if err := namedWaivers(ask); err != nil {
		return err
	}
	if ask.Template == "" {
		return session.Misused("sign --all needs the template: --template NAME")
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	defer session.Roomy()()
	counts, err := overview.Counts(ctx, e)
	if err != nil {
		return err
	}
	count, stop := s.Counter("planning", counts.Waiting)
	opened := openMeanwhile(ctx, s, e, ask)
	list, err := signing.PlanAll(ctx, e, ask, count)
	opened()
	stop()
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return s.Nothing("Nothing waits.")
	}
	return SignPlanned(ctx, s, e, list)
}

// openMeanwhile opens the key while requests are planned, where no one has to be asked for its passphrase: deriving a
// key takes a while. Whether it opens is asked again, and told, before the sheet. wait waits for it.
func openMeanwhile(ctx context.Context, s *session.Session, e *estate.Estate, ask signing.SignAsk) (wait func()) {
	g, t, err := signing.IssuerFor(ctx, e, ask)
	if err != nil || e.NeedsFor(t) > 1 || !s.PassphraseAtHand(g.Authority.Handle) {
		return func() {}
	}
	if shares, err := e.Keys.Shares(g.Certificate.Key); err != nil || shares != nil {
		return func() {} // custodians may have to type
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = e.Keys.Ahead(ctx, g.Certificate.Key, g.Authority.Handle, keystore.ForCertificate) // asked again, see above
	}()
	return func() { <-done }
}

func signManifest(ctx context.Context, s *session.Session, ask signing.SignAsk, file string) error {
	if err := namedWaivers(ask); err != nil {
		return err
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	rows, err := s.Manifest(file)
	if err != nil {
		return err
	}
	list, err := signing.ManifestAsks(ctx, e, rows, ask)
	if err != nil {
		return err
	}
	return signMany(ctx, s, e, list)
}

// signMany shows one combined sheet, asks once, and signs what nothing stands
// against. What failed or was refused is reported at the end, and in the status.
func signMany(ctx context.Context, s *session.Session, e *estate.Estate, list []signing.Planned) error {
	defer session.Roomy()()
	count, stop := s.Counter("planning", len(list))
	list, err := signing.PlanMany(ctx, e, list, count)
	stop()
	if err != nil {
		return err
	}
	return SignPlanned(ctx, s, e, list)
}

// SignPlanned shows one sheet of many plans, asks once and signs what was agreed to.
func SignPlanned(ctx context.Context, s *session.Session, e *estate.Estate, list []signing.Planned) error {
	var others []string // what a colleague decided meanwhile
	agreed, failed := apart(e, list)
	names := sync.OnceValue(func() map[int64]string {
		out := map[int64]string{}
		for _, p := range list {
			if p.Sheet != nil {
				out[p.Sheet.Record.Number] = p.Title()
			}
		}
		return out
	})
	if err := signing.Ready(ctx, e, agreed); err != nil {
		return err
	}
	if !s.JSON {
		whole := s.Out.InBlocks()
		combinedSheet(s, list, agreed, failed)
		whole()
	}
	var done []signing.SignResult
	signed := 0
	if len(agreed) > 0 {
		if err := s.Agree(ctx, fmt.Sprintf("Sign as shown: %s?", span.Count(len(agreed), "certificate"))); err != nil {
			return err
		}
		defer s.Out.InBlocks()()
		count, stop := s.Counter("signing", len(agreed))
		err := signing.Sign(ctx, e, agreed, func(r signing.SignResult) {
			if r.Err != nil && signing.Decided(ctx, e, r) != "" {
				others = append(others, names()[r.Sheet.Record.Number]+" is "+signing.Decided(ctx, e, r))
				return
			}
			if r.Err != nil {
				failed = append(failed, session.Failure{Name: names()[r.Sheet.Record.Number], Why: r.Err.Error(),
					Refused: false})
				return
			}
			signed++
			if s.JSON {
				done = append(done, r)
			} else {
				s.Out.Say("%s R%d %s  serial %s", s.Out.Paint(term.Good, "✓"), r.Sheet.Record.Number,
					term.Safe(r.Certificate.Title()), r.Certificate.SerialHex())
			}
			count(signed)
		})
		stop()
		if err != nil {
			return err
		}
	}
	for _, o := range others {
		s.Errs.Say("(%s: someone else decided it meanwhile)", term.Safe(o))
	}
	return bulkResult(s, done, signed, failed)
}

// apart are the sheets that can be signed, and why others cannot.
func apart(e *estate.Estate, list []signing.Planned) (agreed []*signing.Sheet, failed []session.Failure) {
	for _, p := range list {
		switch {
		case p.Err != nil:
			failed = append(failed, session.Failure{Name: p.Title(), Why: p.Err.Error(), Refused: false})
		case len(p.Sheet.Findings().Refusing()) > 0:
			r := p.Sheet.Findings().Refusing()
			failed = append(failed, session.Failure{Name: p.Title(), Why: r[:1].Stops() + ": " + r[0].Message,
				Refused: true})
		case e.NeedsFor(*p.Sheet.Template) > 1:
			failed = append(failed, session.Failure{Name: p.Title(), Refused: true, Why: fmt.Sprintf(
				"%d operators must agree: propose it alone, ironseal sign %s --template %s",
				p.Sheet.Template.Approvals, p.Title(), p.Sheet.Template.Name)})
		default:
			agreed = append(agreed, p.Sheet)
		}
	}
	return agreed, failed
}

// namedWaivers refuses a waiver that would hold for a whole heap: no one has
// looked at each of them.
func namedWaivers(ask signing.SignAsk) error {
	for _, w := range ask.Waivers {
		if w.Request == 0 {
			return session.Misused("--waive %s: with many requests, name the one it is for: --waive R7:%s", w.Code,
				w.Code)
		}
	}
	return nil
}

// combinedSheet shows how many will be signed by what, then a row a request, with what
// differs and what was found, and what will not be signed.
func combinedSheet(s *session.Session, list []signing.Planned, agreed []*signing.Sheet, failed []session.Failure) {
	o := s.Out
	o.Say("%s", o.Paint(term.Strong, fmt.Sprintf("Review sheet: %s", span.Count(len(list), "certificate"))))
	groups := map[string]int{}
	var order []string
	for _, sh := range agreed {
		key := fmt.Sprintf("%s, by %s", sh.Template.Name, sh.Issuer.Label())
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
	if len(agreed) > 0 {
		o.Gap()
		rows := o.Rolling([]string{"", "request", "for", "names", "from", "until", "template"}, "template", "from")
		for _, sh := range agreed {
			rows.Row(requestRow(sh))
		}
		rows.End()
	}
	withFindings(s, agreed)
	s.DrawFailures(failed)
	o.Gap()
}

// requestRow is a request on a combined sheet, its marks in the margin: ≠ changed, + added,
// − left out, ! found.
func requestRow(sh *signing.Sheet) []term.Cell {
	marks := sh.Marks()
	if slices.ContainsFunc(sh.Findings(), func(f finding.Finding) bool { return f.Severity > finding.Note }) {
		marks += "!"
	}
	return []term.Cell{{Text: marks, Tone: term.Careful},
		{Text: fmt.Sprintf("R%d", sh.Record.Number), Tone: term.Strong}, {Text: sh.Title()},
		{Text: fmt.Sprint(sh.Names())}, {Text: sh.Record.Sender, Tone: term.Quiet},
		{Text: sh.Until().Format("2006-01-02")}, {Text: sh.Template.Name, Tone: term.Quiet}}
}

// mostBulkRows is how many findings of one code a combined sheet shows one by one;
// the requests with further ones are named.
const mostBulkRows = 40

// withFindings shows every finding of what will be signed, the weightiest first, by
// code, and what is the same for several requests once. Nothing is left out: what is not on
// the sheet would be signed unseen.
func withFindings(s *session.Session, agreed []*signing.Sheet) {
	var cells [][]term.Cell
	for _, list := range byCode(agreed) {
		code := list[0].finding.Code
		for _, x := range list[:min(len(list), mostBulkRows)] {
			cells = append(cells, []term.Cell{{Text: ranges(x.requests), Tone: term.Strong},
				{Text: x.finding.Severity.String(), Tone: x.tone()}, {Text: string(code)}, {Text: x.why}})
		}
		if more := list[min(len(list), mostBulkRows):]; len(more) > 0 {
			var numbers []int64
			for _, x := range more {
				numbers = append(numbers, x.requests...)
			}
			cells = append(cells, []term.Cell{{Text: ""}, {Text: ""}, {Text: string(code)},
				{Text: fmt.Sprintf("and %d more: %s", len(numbers), ranges(numbers))}})
		}
	}
	if len(cells) > 0 {
		s.Out.Gap()
		s.Out.Table([]string{"request", "", "finding", ""}, cells)
	}
}

// alike is one finding, and the requests for which it is said in the same words.
type alike struct {
	finding  finding.Finding
	why      string
	requests []int64
}

func (a *alike) tone() term.Tone {
	if a.finding.Severity == finding.Note {
		return term.Quiet
	}
	return term.Careful
}

// byCode gathers the findings of all sheets by code, the weightiest code first.
func byCode(sheets []*signing.Sheet) [][]*alike {
	var out [][]*alike
	at := map[finding.Code]int{}
	same := map[string]*alike{}
	for _, sh := range sheets {
		for _, f := range sh.Findings().Ranked() {
			why := f.Message
			if f.Waived != "" {
				why += " (waived: " + f.Waived + ")"
			}
			k := f.Severity.String() + string(f.Code) + why
			if same[k] == nil {
				i, known := at[f.Code]
				if !known {
					i = len(out)
					at[f.Code], out = i, append(out, nil)
				}
				same[k] = &alike{finding: f, why: why}
				out[i] = append(out[i], same[k])
			}
			same[k].requests = append(same[k].requests, sh.Record.Number)
		}
	}
	slices.SortStableFunc(out, func(a, b []*alike) int {
		return int(b[0].finding.Severity - a[0].finding.Severity)
	})
	return out
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

// bulkResult says how many were signed and which were not. The status says that
// some were not: 3 when findings refused all of those, else 1.
func bulkResult(s *session.Session, done []signing.SignResult, signed int, failed []session.Failure) error {
	if s.JSON {
		rows := []describe.Object{}
		for _, r := range done {
			rows = append(rows, describeSigned(s, r))
		}
		if err := s.PrintJSON(map[string]any{"signed": rows, "failed": append([]session.Failure{},
			failed...)}); err != nil {
			return err
		}
	} else {
		s.Out.Gap()
		s.Out.Say("%s %d signed, %d not", s.Out.Paint(term.Strong, "Result:"), signed, len(failed))
	}
	if len(failed) == 0 {
		return nil
	}
	code := session.Refused
	for _, f := range failed {
		if !f.Refused {
			code = session.Failed
		}
	}
	return &session.Status{Code: code, Err: fmt.Errorf("%d of %d were not signed: each is listed above with its reason",
		len(failed),
		signed+len(failed))}
}
