package incidents

import (
	"context"
	"fmt"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/pki/advice"
	"ironseal/pki/journal"
	"ironseal/pki/runes"
	"ironseal/pki/span"
)

// Report writes an incident down for the file: what was suspected, what hung on it, what was
// done when and by whom, and how it stands. It is plain text, and holds no secret.
func Report(ctx context.Context, e *estate.Estate, p Progress) ([]byte, error) {
	var b strings.Builder
	line := func(format string, args ...any) { b.WriteString(runes.Escape(fmt.Sprintf(format, args...)) + "\n") }
	moment := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
	line("Incident %s: %s", p.Name, p.About)
	line("%s", e.Settings.Organisation.Name)
	line("")
	line("Serial      %s", p.Serial)
	line("SHA-256     %s", p.Certificate)
	line("Suspected   %s", p.Because)
	line("Opened      %s, by %s", moment(p.Opened), p.Who)
	if p.Open() {
		line("Closed      not yet; written %s", moment(e.Now()))
	} else if p.FalseAlarm {
		line("Closed      %s, after %s, as a false alarm: %s", moment(p.Closed), span.Distance(p.Closed, p.Opened),
			p.Outcome)
	} else {
		line("Closed      %s, after %s: %s", moment(p.Closed), span.Distance(p.Closed, p.Opened), p.Outcome)
		for _, l := range p.Left {
			line("            not done: %s", l)
		}
	}
	p.reportSteps(line)
	line("")
	line("Affected: %s, held by %s", span.Count(len(p.Affected), "certificate"), orNobody(p.Holders))
	for _, a := range p.Affected {
		instead := "nothing in its place"
		if a.Replacement != "" {
			instead = "in its place " + a.Replacement
		}
		line("  %s  %s  %s, %s; held by %s", a.Serial, a.Title, a.State, instead, orNobody(a.Holders))
	}
	line("")
	line("What was done, by the journal")
	err := e.Records.Entries(ctx, p.Seq, 0, func(en journal.Entry) error {
		if p.Open() || !en.At.After(p.Closed) {
			line("  J%-6d %s  %-12s %s: %s", en.Seq, moment(en.At), en.Actor, en.Act, runes.Clip(en.Object, 80))
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	head, _, err := e.Records.Newest(ctx)
	line("")
	line("The journal is proved up to %s. To verify it: %s", head,
		e.Env.Spell(advice.To("", advice.VerifyJournal, "head", head.String())))
	return []byte(b.String()), err
}

func orNobody(list []string) string {
	if len(list) == 0 {
		return "no known holder"
	}
	return strings.Join(list, ", ")
}

// reportSteps writes the steps; after a false alarm nothing had to be done.
func (p Progress) reportSteps(line func(format string, args ...any)) {
	if p.FalseAlarm {
		return
	}
	line("")
	line("Steps")
	for i, s := range p.Steps {
		mark := " "
		if s.Done {
			mark = "x"
		}
		line("  [%s] %d. %s: %s", mark, i+1, s.Name, s.Words)
	}
}
