// Package sign has the command that shows what will be signed, asks and signs, one or
// many.
package sign

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ops/overview"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/intake"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/describe"
	"ironseal/pki/dn"
	"ironseal/pki/label"
	"ironseal/pki/span"
)

// signFlags are the flags of sign, as typed.
type signFlags struct {
	template, by, receiver, subject, lifetime, because string
	manifest                                           string
	all                                                bool
	add, drop, waive                                   []string
	party                                              string
}

func (f signFlags) ask() (signing.SignAsk, error) {
	ask := signing.SignAsk{Template: f.template, By: f.by, For: f.receiver}
	var err error
	if ask.Amend.Add, err = session.TypedNames(f.add); err != nil {
		return ask, err
	}
	if ask.Amend.Drop, err = session.TypedNames(f.drop); err != nil {
		return ask, err
	}
	if f.subject != "" {
		n, err := dn.ParseTyped(f.subject)
		if err != nil {
			return ask, &session.Status{Code: session.Usage, Err: err}
		}
		ask.Amend.Subject = &n
	}
	if f.lifetime != "" {
		if ask.Amend.Lifetime, err = span.Parse(f.lifetime); err != nil {
			return ask, &session.Status{Code: session.Usage, Err: err}
		}
	}
	ask.Waivers, err = session.Waivers(f.waive, f.because)
	return ask, err
}

// fromParty takes from a party what was not typed.
func (f *signFlags) fromParty(ctx context.Context, s *session.Session) error {
	if f.party == "" {
		return nil
	}
	if f.all || f.manifest != "" {
		return session.Misused("sign: --party is for one request: a manifest has a template and a receiver in each row")
	}
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	p, err := parties.Find(ctx, e, f.party)
	if err != nil {
		return err
	}
	f.template, f.receiver = cmp.Or(f.template, p.Template), cmp.Or(f.receiver, p.Receiver)
	return nil
}

// mode refuses options that do not go together.
func (f signFlags) mode(cmd *cobra.Command, args []string) error {
	bulk := []string{"template", "by", "for", "lifetime", "waive", "because"}
	if f.party != "" {
		bulk = append(bulk, "party")
	}
	switch {
	case f.all && f.manifest != "" || (f.all || f.manifest != "") && len(args) > 0:
		return session.Misused("sign: name requests, or use --all, or --manifest: one of the three")
	case f.manifest != "":
		return session.OnlyFlags(cmd, "with --manifest", append(bulk, "manifest")...)
	case f.all:
		return session.OnlyFlags(cmd, "with --all", append(bulk, "all")...)
	case len(args) == 0:
		return session.Misused("sign needs a request or a file").Then(advice.To("for example", advice.Sign, "request",
			"R5"))
	case f.template == "":
		if err := session.OnlyFlags(cmd, "without --template, when nothing is signed", "by", "for", "lifetime",
			"add-name", "drop-name", "subject", "party"); err != nil {
			return err
		}
	}
	if len(args) > 1 {
		return session.OnlyFlags(cmd, "for several requests at once", bulk...)
	}
	return nil
}

// Command is ironseal sign.
func Command(s *session.Session) *cobra.Command {
	var f signFlags
	c := &cobra.Command{
		Use:   "sign REQUEST|FILE...",
		Short: "Sign requests by a template, after you have seen the review sheet",
		Long: `Show the review sheet of each request, ask, and sign. A file is received first.

Without --template, the templates that fit are listed with reasons and nothing is
signed. Refused findings cannot be waived; others need --waive CODE --because TEXT. The
waiver is recorded.`,
		Example: `  ironseal sign R5
  ironseal sign R5 --template web-server
  ironseal sign R5 --template web-server --add-name pier.ternbay.example --lifetime 90d
  ironseal sign R5 --template mutual-peer --for gateway-pair
  ironseal sign --all --template web-server`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := f.fromParty(cmd.Context(), s); err != nil {
				return err
			}
			ask, err := f.ask()
			if err != nil {
				return err
			}
			if err := f.mode(cmd, args); err != nil {
				return err
			}
			switch {
			case f.manifest != "":
				return signManifest(cmd.Context(), s, ask, f.manifest)
			case f.all:
				return signAll(cmd.Context(), s, ask)
			}
			return sign(cmd.Context(), s, ask, args)
		},
		ValidArgsFunction: s.Requests,
	}
	fl := c.Flags()
	fl.StringVar(&f.template, "template", "", "the template to sign by")
	fl.StringVar(&f.by, "by", "", "the `HANDLE` of the authority that signs")
	fl.StringVar(&f.receiver, "for", "", "the `RECEIVER` that will take it: what it demands is checked before the "+
		"signature")
	fl.BoolVar(&f.all, "all", false, "every request that waits, with one combined sheet")
	fl.StringVar(&f.manifest, "manifest", "", "the hosts of a CSV `FILE`: host, names, template, receiver, lifetime, "+
		"note")
	fl.StringArrayVar(&f.add, "add-name", nil, "certify this `NAME` too; may be repeated")
	fl.StringArrayVar(&f.drop, "drop-name", nil, "leave out this `NAME`; may be repeated")
	fl.StringVar(&f.subject, "subject", "", "the subject, in place of the request's")
	fl.StringVar(&f.lifetime, "lifetime", "", "how long it lives, within the template's limit")
	s.PartyFlag(c, &f.party, "the `PARTY` that it is for: its template and receiver, where none are named")
	s.WaiverFlags(c, &f.waive, &f.because)
	s.CompleteTemplates(c, "template")
	s.CompleteHandles(c, "by")
	session.Register(c, "for", s.Receivers)
	return c
}

func sign(ctx context.Context, s *session.Session, ask signing.SignAsk, args []string) error {
	e, err := s.Estate(ctx)
	if err != nil {
		return err
	}
	names, err := requestNames(ctx, s, e, args)
	if err != nil {
		return err
	}
	if ask.Template == "" {
		return fitting(ctx, s, e, ask, names)
	}
	return stays(s, names, args, signNamed(ctx, s, e, ask, names))
}

// stays says what a declined sign has left all the same: a file that was named was
// received.
func stays(s *session.Session, names, args []string, err error) error {
	if !errors.Is(err, session.ErrDeclined) || slices.Equal(names, args) {
		return err
	}
	return &session.Status{Code: session.Refused,
		Err: fmt.Errorf("declined; nothing was signed; what was in the file stays received, as %s",
			strings.Join(names, ", "))}
}

func signNamed(ctx context.Context, s *session.Session, e *estate.Estate, ask signing.SignAsk, names []string) error {
	if len(names) > 1 {
		if err := namedWaivers(ask); err != nil {
			return err
		}
		var list []signing.Planned
		for _, n := range names {
			one := ask
			one.Request = n
			list = append(list, signing.Planned{Ask: &one, Name: n})
		}
		return signMany(ctx, s, e, list)
	}
	ask.Request = names[0]
	sheet, err := signing.Plan(ctx, e, ask)
	if err != nil {
		return err
	}
	return SignOne(ctx, s, e, sheet)
}

// SignOne shows a sheet, and signs once the person agrees.
func SignOne(ctx context.Context, s *session.Session, e *estate.Estate, sheet *signing.Sheet) error {
	refused := sheet.Plan.Findings.Refusing()
	if len(refused) == 0 && s.Opens(e.NeedsFor(*sheet.Template)) {
		if err := signing.Ready(ctx, e, []*signing.Sheet{sheet}); err != nil {
			return err
		}
	}
	if !s.JSON {
		s.Out.Sheet(fmt.Sprintf("R%d, %s", sheet.Record.Number, sheet.Record.Title), origin(sheet), *sheet.Plan,
			label.Code(sheet.Plan.Digest()), sheet.Head.String())
	}
	if len(refused) > 0 {
		return session.Refusal(fmt.Sprintf("R%d", sheet.Record.Number), "nothing was signed", refused)
	}
	return agreeAndSign(ctx, s, e, sheet)
}

// origin tells who sent a request, and the code to compare with them.
func origin(sheet *signing.Sheet) string {
	sender := "sender not given"
	if sheet.Record.Sender != "" {
		sender = "from " + sheet.Record.Sender
	}
	lines := fmt.Sprintf("%s   check code %s", sender, label.Code(sheet.Request.SHA256()))
	if said := wishes(sheet.HandedIn); said != "" {
		lines += "\n" + said
	}
	return lines
}

// wishes tells what the sender said at the desk; "" where there is nothing.
func wishes(h *event.HandedIn) string {
	if h == nil {
		return ""
	}
	var parts []string
	for _, x := range [][2]string{{"purpose: ", h.Purpose}, {"asks for the template ", h.Template},
		{"for the receiver ", h.Receiver}, {"renews ", h.Renews}, {"by the invitation of ", h.Invitation}} {
		if x[1] != "" {
			parts = append(parts, x[0]+x[1])
		}
	}
	return strings.Join(parts, "; ")
}

func agreeAndSign(ctx context.Context, s *session.Session, e *estate.Estate, sheet *signing.Sheet) error {
	if !s.JSON {
		s.Out.Gap()
	}
	what := fmt.Sprintf("Sign R%d as shown", sheet.Record.Number)
	if n := len(sheet.Plan.Names); n > 0 {
		what += ": " + span.Count(n, "name")
	}
	question := fmt.Sprintf("%s, until %s?", what, sheet.Plan.Draft.NotAfter.Format("2006-01-02"))
	args := []string{fmt.Sprintf("R%d", sheet.Record.Number)}
	if sheet.Again {
		args = nil
	}
	if err := s.AgreeTo(ctx, e, session.Agreement{Act: event.Signed{}, Need: e.NeedsFor(*sheet.Template),
		Digest: sheet.Plan.Digest(), Planned: sheet.Plan.Moment(), Title: fmt.Sprintf("sign R%d, %s",
			sheet.Record.Number, sheet.Record.Title),
		Question: question, Args: args}); err != nil {
		return err
	}
	var result signing.SignResult
	if err := signing.Sign(ctx, e, []*signing.Sheet{sheet}, func(r signing.SignResult) { result = r }); err != nil {
		return err
	}
	if result.Err != nil {
		return result.Err
	}
	if s.JSON {
		return s.PrintJSON([]describe.Object{describeSigned(s, result)})
	}
	drawSigned(s, result)
	s.Advise(overview.AfterSigning(sheet))
	return nil
}

func describeSigned(s *session.Session, r signing.SignResult) describe.Object {
	o := describe.Certificate(r.Certificate, s.Moment())
	o.Add("request", "Request", fmt.Sprintf("R%d", r.Sheet.Record.Number))
	o.Add("journal_head", "Journal", r.Head.String())
	return o
}

func drawSigned(s *session.Session, r signing.SignResult) {
	c := r.Certificate
	s.Out.Say("%s R%d, %s, by %s, until %s", s.Out.Paint(term.Good, "✓ signed"), r.Sheet.Record.Number,
		term.Safe(c.Title()), r.Sheet.Issuer.Label(), c.NotAfter.Format("2006-01-02"))
	s.Out.Say("  serial %s   check code %s", c.SerialHex(), s.Out.Paint(term.Accent, label.CheckCode(c.Raw)))
	s.Out.Say("  %s", s.Out.Paint(term.Quiet, "journal "+r.Head.String()))
}

// requestNames turns arguments into request numbers; files are received first.
func requestNames(ctx context.Context, s *session.Session, e *estate.Estate, args []string) ([]string, error) {
	var out []string
	for _, a := range args {
		if _, err := estate.ParseNumber(a); err == nil {
			out = append(out, a)
			continue
		}
		in, err := intake.ReadInput(s.Path(a), s.Input)
		if err != nil {
			return nil, fmt.Errorf("%w, and %q is no request number", err, a)
		}
		list, _, faults := intake.Receive(ctx, e, in, "")
		if len(faults) > 0 {
			return nil, errors.Join(faults...)
		}
		for _, r := range list {
			out = append(out, fmt.Sprintf("R%d", r.Record.Number))
		}
	}
	return out, nil
}

// fitting lists the templates that suit each request. Nothing is signed.
func fitting(ctx context.Context, s *session.Session, e *estate.Estate, ask signing.SignAsk, names []string) error {
	all := map[string][]signing.Fit{}
	for _, n := range names {
		ask.Request = n
		fits, err := signing.Fitting(ctx, e, ask)
		if err != nil {
			return err
		}
		all[n] = fits
		if s.JSON {
			continue
		}
		drawFits(s, n, fits)
	}
	if s.JSON {
		return s.PrintJSON(all)
	}
	return &session.Status{Code: session.Usage, Err: nil}
}

// drawFits shows what each template that suits gives; those that do not suit are named
// together where one reason is theirs.
func drawFits(s *session.Session, request string, fits []signing.Fit) {
	s.Out.Say("%s", s.Out.Paint(term.Strong, "Templates for "+request))
	var cells [][]term.Cell
	against := map[string][]string{}
	var reasons, choice []string
	kinds := map[string]bool{}
	for _, f := range fits {
		gives := strings.Join(f.Usages, ", ")
		if !f.Fits {
			why := strings.ReplaceAll(strings.TrimPrefix(f.Reason, "template "+f.Template+": "),
				"the template "+f.Template, "the template")
			if against[why] == nil {
				reasons = append(reasons, why)
			}
			against[why] = append(against[why], f.Template)
			continue
		}
		kinds[gives] = true
		choice = append(choice, f.Template)
		cells = append(cells, []term.Cell{{Text: "✓", Tone: term.Good}, {Text: f.Template, Tone: term.Strong},
			{Text: gives}, {Text: f.Life}, {Text: f.Reason, Prose: true}})
	}
	if len(cells) > 0 {
		s.Out.Table([]string{"", "template", "gives", "lives", "for"}, cells, "lives")
	}
	for _, why := range reasons {
		s.Out.Hung("✗", term.Quiet, "not "+term.Safe(strings.Join(against[why], ", ")+": "+why))
	}
	switch {
	case len(choice) == 0:
	case len(kinds) == 1:
		s.Next(session.Hint{Why: "sign it", Command: fmt.Sprintf("ironseal sign %s --template %s", request,
			choice[0])})
	default:
		s.Next(session.Hint{Why: "choose by what it is for",
			Command: "ironseal sign " + request + " --template NAME"})
	}
}
