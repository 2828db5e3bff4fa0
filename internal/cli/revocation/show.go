package revocation

import (
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/revoke/monitoring"
	"ironseal/internal/cli/session"
	"ironseal/internal/fetch"
	"ironseal/internal/term"
	"ironseal/pki/describe"
	"ironseal/pki/revocation"
)

func show(s *session.Session) *cobra.Command {
	var all bool
	var field string
	c := &cobra.Command{
		Use:     "show FILE",
		Short:   "Show what is on a revocation list",
		Example: `  ironseal revocations show ../public/services.g1.crl`,
		Args:    session.Exactly(1, "a file"),
		RunE: func(_ *cobra.Command, args []string) error {
			lists, err := s.ListsIn(args)
			if err != nil {
				return err
			}
			for i, der := range lists {
				l, err := revocation.ReadList(der)
				if err != nil {
					return err
				}
				if i > 0 && !s.JSON {
					s.Out.Gap()
				}
				if err := s.PrintObject(describe.List(l, s.Moment()), all, field); err != nil {
					return err
				}
			}
			return nil
		},
	}
	s.ShowFlags(c, &all, &field)
	return c
}

const aboutCheck = `Check that clients find, at the addresses in certificates, the list that was published: fresh and
of the right authority. Without an argument, every list at the address in the settings is
fetched and checked; otherwise the address or file that you name. The exit status is 4 if
anything is wrong.

It fetches from plain http addresses only, and from no local address unless you give
--fetch-local.`

func check(s *session.Session) *cobra.Command {
	var local bool
	c := &cobra.Command{
		Use:   "check [URL|FILE...]",
		Short: "Check that clients find the published lists",
		Long:  aboutCheck,
		Example: `  ironseal revocations check ../public/services.g1.crl
  ironseal revocations check http://pki.ternbay.example/services.g1.crl`,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				if args, err = monitoring.Addresses(cmd.Context(), e); err != nil {
					return err
				}
			}
			rules := fetch.Usual
			rules.Local = local
			out := []monitoring.Checked{}
			for _, a := range args {
				if strings.Contains(a, "://") {
					r, err := monitoring.Fetch(cmd.Context(), e, a, rules)
					if err != nil {
						return err
					}
					out = append(out, r)
					continue
				}
				lists, err := s.ListsIn([]string{a})
				if err != nil {
					return err
				}
				for _, der := range lists {
					r, err := monitoring.Check(cmd.Context(), e, a, der)
					if err != nil {
						return err
					}
					out = append(out, r)
				}
			}
			return drawChecked(s, out)
		},
	}
	c.Flags().BoolVar(&local, "fetch-local", false, "fetch from loopback and private addresses too")
	return c
}

func drawChecked(s *session.Session, list []monitoring.Checked) error {
	good := true
	for _, c := range list {
		good = good && c.Good
	}
	if s.JSON {
		for i := range list {
			list[i].Findings = api.FindingsOf(list[i].Findings, s.Speller())
		}
		if err := s.PrintJSON(list); err != nil {
			return err
		}
	} else {
		for _, c := range list {
			mark, tone := "✓", term.Good
			if !c.Good {
				mark, tone = "✗", term.Bad
			}
			words := "is the list that was published"
			if !c.Good {
				words = "is not as it should be"
			}
			s.Out.Say("%s %s %s", s.Out.Paint(tone, mark), term.Safe(c.Where), words)
			s.Out.Reasons(c.Findings)
		}
		if !good {
			s.Next(session.Hint{Why: "write the folder again, and check what the web server serves",
				Command: "ironseal revocations publish --to DIR"})
		}
	}
	if !good {
		return &session.Status{Code: session.No, Err: nil}
	}
	return nil
}
