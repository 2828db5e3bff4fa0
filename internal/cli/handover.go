package cli

import (
	"context"
	"crypto"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/act/delivery"
	"ironseal/internal/custody"
	"ironseal/internal/estate"
	"ironseal/internal/term"
	"ironseal/pki/cert"
	"ironseal/pki/relate"
)

// passwordFlags say where the password of a sealed file comes from.
type passwordFlags struct {
	file string
	made bool
}

func (f *passwordFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.file, "password-file", "", "the password of the file that is written, from a `FILE`")
	c.Flags().BoolVar(&f.made, "make-password", false, "make a password, and show it once")
}

// password gives the password for a new file; made says that it was made here.
func (s *Session) password(ctx context.Context, f passwordFlags, what string) (secret []byte, made bool, err error) {
	switch {
	case f.file != "" && f.made:
		return nil, false, usage("--password-file and --make-password: use one of the two")
	case f.file != "":
		secret, err = custody.ReadPassphraseFile(s.path(f.file))
		return secret, false, err
	case f.made:
		b := make([]byte, 15)
		if _, err := rand.Read(b); err != nil {
			return nil, false, err
		}
		return []byte(strings.ToLower(base32.StdEncoding.EncodeToString(b))), true, nil
	}
	only := &passphrases{App: s.App, errs: s.errs}
	secret, _, err = only.choose(ctx, what)
	if errors.Is(err, term.ErrNoTerminal) {
		err = usage("%s needs a password: give --password-file FILE or --make-password", what)
	}
	return secret, false, err
}

func (s *Session) certificateHandover() *cobra.Command {
	var receiver, out, keyFile, holder, because string
	var waive []string
	var pw passwordFlags
	c := &cobra.Command{
		Use:   "handover CERTIFICATE --for RECEIVER",
		Short: "Write everything that one receiver needs into one folder, with a page that says what to do",
		Long: `Write a folder named for the host: the files in the shape that the receiver
takes, and a READ-ME with the steps in the receiver's order.

The key of our own draft is found again by itself; another is given with --key.
Where the key stayed on the device, the files come without it.

` + certificateNaming,
		Example: `  ironseal certificate handover booking.ternbay.example --for nginx --out ../handed-out
  ironseal certificate handover R1 --for java --make-password --out ../handed-out
  ironseal certificate handover R3 --for appliance-pem --out ../handed-out`,
		Args: exactly(1, "a certificate"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			e, err := s.estate(ctx)
			if err != nil {
				return err
			}
			if receiver == "" {
				return usage("handover: say for whom: --for RECEIVER; there are: %s",
					strings.Join(e.ReceiverNames(), ", "))
			}
			h, note, err := e.FindCertificate(ctx, args[0])
			if err != nil {
				return err
			}
			if note != "" {
				s.errs.Say("(%s)", term.Safe(note))
			}
			ask := delivery.HandoverAsk{Certificate: h, Dir: s.path(out), To: holder}
			if ask.Receiver, err = e.Receiver(receiver); err != nil {
				return err
			}
			if ask.Signer, err = s.handoverKey(ctx, e, h, keyFile); err != nil {
				return err
			}
			if ask.Waivers, err = waivers(waive, because); err != nil {
				return err
			}
			made := false
			if !ask.Receiver.NeedsPassword() && (pw.made || pw.file != "") {
				return usage("handover: %s takes no file that is sealed under a password: leave out --make-password "+
					"and --password-file", receiver)
			}
			s.tidy(ask.Dir)
			if ask.Receiver.NeedsPassword() {
				if ask.Password, made, err = s.password(ctx, pw, "the PKCS#12 file"); err != nil {
					return err
				}
				defer clear(ask.Password)
			}
			done, err := delivery.Handover(ctx, e, ask)
			if err != nil {
				if !s.json {
					s.out.Findings(done.Findings)
				}
				return err
			}
			return s.printHandover(done, ask, made)
		},
		ValidArgsFunction: s.certificates,
	}
	c.Flags().StringVar(&receiver, "for", "", "the `RECEIVER`")
	c.Flags().StringVar(&out, "out", ".", "the `DIR` in which the folder is made")
	c.Flags().StringVar(&holder, "to", "", "`WHO` gets it: named when the certificate is due")
	c.Flags().StringVar(&keyFile, "key", "", "the private key's `FILE`; a draft's own key is found by itself")
	pw.add(c)
	s.waiverFlags(c, &waive, &because)
	register(c, "for", s.receivers)
	return c
}

func (s *Session) handoverKey(ctx context.Context, e *estate.Estate, h estate.Held, file string) (crypto.Signer,
	error) {
	if file != "" {
		return delivery.OpenKeyFile(ctx, s.path(file), h.Title(), (*passphrases)(s))
	}
	return delivery.DraftSigner(ctx, e, h)
}

func (s *Session) printHandover(d delivery.HandedOver, ask delivery.HandoverAsk, made bool) error {
	var names []string
	for _, f := range d.Files {
		names = append(names, f.Name)
	}
	if s.json {
		v := map[string]any{"directory": d.Dir, "files": names, "notes": d.Notes, "findings": d.Findings}
		if made {
			v["password"] = string(ask.Password)
		}
		return s.printJSON(v)
	}
	s.out.Say("%s %s", s.out.Paint(term.Good, "✓ wrote"), term.Safe(d.Dir))
	s.out.Say("  %s", term.Safe(strings.Join(append(names, delivery.ReadMeFile), "  ")))
	s.out.Findings(d.Findings)
	if made {
		s.out.Say("  password    %s   %s", s.out.Paint(term.Accent, string(ask.Password)),
			s.out.Paint(term.Quiet, "shown once: hand it over by another way than the file"))
	}
	s.out.Gap()
	for _, l := range strings.Split(strings.TrimRight(string(d.Page), "\n"), "\n") {
		s.out.Say("  %s", term.Safe(l))
	}
	return nil
}

func (s *Session) certificateCompare() *cobra.Command {
	return &cobra.Command{
		Use:   "compare A B",
		Short: "How two certificates differ, in words",
		Long: `Compare two certificates: the good server's against the bad one's, or the old
against the new. Each is a file, or named as in certificate show.`,
		Example: "  ironseal certificate compare booking.ternbay.example mail.ternbay.example\n  ironseal " +
			"certificate compare R1 ../handed-out/root.pem",
		Args: exactly(2, "two certificates"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var two [2]*cert.Certificate
			for i, a := range args {
				list, err := s.certificatesIn(a)
				if err == nil {
					two[i] = list[0]
					continue
				}
				e, estateErr := s.estate(cmd.Context())
				if estateErr != nil {
					return err
				}
				h, _, findErr := e.FindCertificate(cmd.Context(), a)
				if findErr != nil {
					return fmt.Errorf("%w; and %q is no file with a certificate", findErr, a)
				}
				two[i] = h.Certificate
			}
			diffs := relate.Compare(two[0], two[1])
			if s.json {
				if diffs == nil {
					diffs = []relate.Difference{}
				}
				return s.printJSON(diffs)
			}
			if len(diffs) == 0 {
				s.out.Say("%s the two are the same certificate", s.out.Paint(term.Good, "✓"))
				return nil
			}
			var cells [][]term.Cell
			for _, d := range diffs {
				cells = append(cells, []term.Cell{{Text: d.Field, Tone: term.Quiet}, {Text: orDash(d.A)},
					{Text: orDash(d.B)}, {Text: d.Means, Tone: term.Careful}})
			}
			s.out.Table([]string{"", two[0].Title(), two[1].Title(), ""}, cells)
			return nil
		},
		ValidArgsFunction: s.certificates,
	}
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}
