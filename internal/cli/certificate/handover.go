package certificate

import (
	"cmp"
	"context"
	"crypto"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/handovers"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/finding"
	"ironseal/pki/match"
)

// handoverFlags are the flags of certificate handover, as typed.
type handoverFlags struct {
	receiver, out, keyFile, holder, because string
	waive, clients                          []string
	many                                    many
	pw                                      session.PasswordFlags
}

// several hands over a folder each.
func (f handoverFlags) several(cmd *cobra.Command, s *session.Session, e *estate.Estate, args []string) error {
	if err := session.OnlyFlags(cmd, "with several certificates", "new", "incident", "manifest", "party", "for", "out",
		"waive", "because", "make-password", "encrypt-with"); err != nil {
		return err
	}
	waivers, err := session.Waivers(f.waive, f.because)
	if err != nil {
		return err
	}
	return handMany(cmd.Context(), s, e, f, args, waivers)
}

// one hands one certificate over, and shows its page.
func (f handoverFlags) one(ctx context.Context, s *session.Session, e *estate.Estate, name string) error {
	if len(f.many.parties) > 1 {
		return session.Misused("certificate handover: one certificate goes to one party")
	}
	if err := fromParty(ctx, e, strings.Join(f.many.parties, ""), &f.receiver, &f.holder); err != nil {
		return err
	}
	h, err := s.Found(ctx, e, name)
	if err != nil {
		return err
	}
	ask := delivery.HandoverAsk{Certificate: h, Dir: s.Path(f.out), To: f.holder}
	if ask.Receiver, err = e.Receiver(f.receiver); err != nil {
		return err
	}
	if ask.Signer, err = handoverKey(ctx, s, e, h, f.keyFile); err != nil {
		return err
	}
	if ask.Waivers, err = session.Waivers(f.waive, f.because); err != nil {
		return err
	}
	if ask.Clients, err = session.Clients(f.clients); err != nil {
		return err
	}
	return handOver(ctx, s, e, ask, f.pw)
}

func certificateHandover(s *session.Session) *cobra.Command {
	var f handoverFlags
	c := &cobra.Command{
		Use:   "handover CERTIFICATE... --for RECEIVER",
		Short: "Write everything that a server or device needs into one folder, with instructions",
		Long: `Write a folder named for the host: the files that the receiver takes, and a READ-ME with the
steps in order.

Iron Seal finds the key of a request that was drafted here. Give another with --key. If
the key stayed on the device, the files come without it.

Several certificates get a folder each, for the receiver on record: that of the party, or
that of the last handover. --for is for those without one. ` + handovers.IndexFile + ` lists the folders.

` + certificateNaming,
		Example: `  ironseal certificate handover booking.ternbay.example --for nginx --out ../handed-out
  ironseal certificate handover R1 --for java --make-password --out ../handed-out
  ironseal certificate handover R3 --for appliance-pem --out ../handed-out
  ironseal certificate handover --new --for nginx --out ../handed-out`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if n := f.many.ways(args); n != 1 {
				return session.Misused("certificate handover: name certificates, or give one of --new, --incident, " +
					"--manifest and --party")
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if f.many.asked(args) {
				return f.several(cmd, s, e, args)
			}
			return f.one(cmd.Context(), s, e, args[0])
		},
		ValidArgsFunction: s.Certificates,
	}
	c.Flags().StringVar(&f.receiver, "for", "", "the `RECEIVER`")
	c.Flags().StringVar(&f.out, "out", ".", "the `DIR` in which the folder is made")
	c.Flags().StringVar(&f.holder, "to", "", "`WHO` gets it: named when the certificate is due")
	c.Flags().StringVar(&f.keyFile, "key", "", "the private key's `FILE`; the key of a draft is found without it")
	session.ClientsFlag(c, "clients", &f.clients, "kinds of `CLIENT` that have to accept it, or all")
	f.many.flags(s, c)
	f.pw.Add(c)
	s.WaiverFlags(c, &f.waive, &f.because)
	session.Register(c, "for", s.Receivers)
	return c
}

// fromParty takes from a party the receiver and the holder that were not typed.
func fromParty(ctx context.Context, e *estate.Estate, name string, receiver, holder *string) error {
	if name != "" {
		p, err := parties.Find(ctx, e, name)
		if err != nil {
			return err
		}
		*receiver, *holder = cmp.Or(*receiver, p.Receiver), cmp.Or(*holder, p.Name)
	}
	if *receiver == "" {
		return session.Misused("handover: say for whom: --for RECEIVER; there are: %s",
			strings.Join(e.ReceiverNames(), ", "))
	}
	return nil
}

func handOver(ctx context.Context, s *session.Session, e *estate.Estate, ask delivery.HandoverAsk,
	pw session.PasswordFlags) (err error) {
	made := false
	if !ask.Receiver.NeedsPassword() && (pw.Made || pw.File != "") {
		return session.Misused("handover: %s takes no file that is encrypted under a password: leave out "+
			"--make-password and --encrypt-with", ask.Receiver.Name)
	}
	s.Tidy(ask.Dir)
	if ask.Receiver.NeedsPassword() {
		if ask.Password, made, err = s.Password(ctx, pw, "the PKCS#12 file"); err != nil {
			return err
		}
		defer clear(ask.Password)
	}
	if dir := delivery.HandoverDir(ask); delivery.HandedBefore(dir) {
		if err := s.Agree(ctx, fmt.Sprintf("%s holds an earlier handover: replace it?", dir)); err != nil {
			return err
		}
		ask.Replace = true
	}
	done, err := delivery.Handover(ctx, e, ask)
	if err != nil {
		if !s.JSON {
			s.Out.Findings(done.Findings)
		}
		return err
	}
	if err := printHandover(s, done, ask, made); err != nil || s.JSON || ask.Signer == nil {
		return err
	}
	return plainKeyStays(ctx, s, e, ask)
}

// plainKeyStays tells that the key of our own draft lies beside its copy, readable by whoever gets the file.
func plainKeyStays(ctx context.Context, s *session.Session, e *estate.Estate, ask delivery.HandoverAsk) error {
	file, encrypted, err := e.Records.DraftKey(ctx, ask.Certificate.Key.Fingerprint())
	if err != nil || file == "" || encrypted {
		return err
	}
	s.Out.Gap()
	s.Out.Hung("!", term.Careful,
		fmt.Sprintf("The key is still in %s, not encrypted. Delete that file once the server has the key, or encrypt "+
			"it: ironseal request passphrase R%d", term.Safe(file),
			ask.Certificate.Record.Request))
	return nil
}

func handoverKey(ctx context.Context, s *session.Session, e *estate.Estate, h estate.CertificateRecord,
	file string) (crypto.Signer,
	error) {
	if file != "" {
		return delivery.OpenKeyFile(ctx, s.Path(file), h.Title(), (*session.Passphrases)(s))
	}
	return delivery.DraftSigner(ctx, e, h)
}

func printHandover(s *session.Session, d delivery.HandedOver, ask delivery.HandoverAsk, made bool) error {
	names := []string{}
	for _, f := range d.Files {
		names = append(names, f.Name)
	}
	if s.JSON {
		v := map[string]any{"directory": d.Dir, "files": names, "notes": append([]string{}, d.Notes...),
			"findings": append(finding.List{}, d.Findings...)}
		if made {
			v["password"] = string(ask.Password)
		}
		return s.PrintJSON(v)
	}
	s.Out.Say("%s %s", s.Out.Paint(term.Good, "✓ wrote"), term.Safe(d.Dir))
	s.Out.Say("  %s", term.Safe(strings.Join(append(names, delivery.ReadMeFile), "  ")))
	s.Out.Findings(d.Findings)
	if made {
		s.Out.Say("  password    %s   %s", s.Out.Paint(term.Accent, string(ask.Password)),
			s.Out.Paint(term.Quiet, "shown once: hand it over by another way than the file"))
	}
	s.Out.Gap()
	for _, l := range strings.Split(strings.TrimRight(string(d.Page), "\n"), "\n") {
		s.Out.Say("  %s", term.Safe(l))
	}
	return nil
}

func certificateCompare(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "compare A B",
		Short: "Compare two certificates",
		Long: `Compare two certificates, for example that of a server that works with that of one that does
not. Each is a file, or is named as in certificate show.`,
		Example: `  ironseal certificate compare booking.ternbay.example mail.ternbay.example
  ironseal certificate compare R1 ../handed-out/root.pem`,
		Args: session.Exactly(2, "two certificates"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var two [2]*cert.Certificate
			for i, a := range args {
				list, err := s.CertificatesIn(a)
				if err == nil {
					two[i] = list[0]
					continue
				}
				e, estateErr := s.Estate(cmd.Context())
				if estateErr != nil {
					return err
				}
				h, _, findErr := e.FindCertificate(cmd.Context(), a)
				if findErr != nil {
					return fmt.Errorf("%w; and %q is no file with a certificate", findErr, a)
				}
				two[i] = h.Certificate
			}
			diffs := match.Compare(two[0], two[1])
			if s.JSON {
				if diffs == nil {
					diffs = []match.Difference{}
				}
				return s.PrintJSON(diffs)
			}
			if len(diffs) == 0 {
				s.Out.Say("%s the two are the same certificate", s.Out.Paint(term.Good, "✓"))
				return nil
			}
			var cells [][]term.Cell
			for _, d := range diffs {
				cells = append(cells, []term.Cell{{Text: d.Field, Tone: term.Quiet}, {Text: session.OrDash(d.A)},
					{Text: session.OrDash(d.B)}, {Text: d.Means, Tone: term.Careful}})
			}
			s.Out.Table([]string{"", two[0].Title(), two[1].Title(), ""}, cells)
			return nil
		},
		ValidArgsFunction: s.Certificates,
	}
}
