// Package operator has the commands about the people who act on an estate.
package operator

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/api"
	"ironseal/internal/app/operators"
	"ironseal/internal/cli/session"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	role "ironseal/pki/operator"
	"ironseal/pki/span"
)

// Command is ironseal operator.
func Command(s *session.Session) *cobra.Command {
	return session.Group("operator", "The people who act on the estate, known by their SSH keys", add(s),
		session.Reading(list(s)), session.Reading(show(s)), end(s), recoverKey(s), session.Reading(grants(s)))
}

// rolesText lists the roles for help.
func rolesText() string {
	var b strings.Builder
	for _, r := range role.Roles() {
		b.WriteString("\n  " + string(r.Role) + strings.Repeat(" ", 15-len(r.Role)) + r.For)
	}
	return b.String()
}

// keyFrom reads a public key.
func keyFrom(s *session.Session, file string) (role.Key, error) {
	data, err := disk.Read(s.Path(file), role.Most)
	if err != nil {
		return role.Key{}, err
	}
	return role.ParseKey(string(data))
}

// keyGiven reads a public key from a file, or as it was typed.
func keyGiven(s *session.Session, file, line string) (role.Key, error) {
	switch {
	case line != "":
		return role.ParseKey(line)
	case file == "":
		return role.Key{}, session.Misused("say which key: --key FILE.pub")
	}
	return keyFrom(s, file)
}

func add(s *session.Session) *cobra.Command {
	var file, as, line string
	c := &cobra.Command{
		Use:   "add NAME --key FILE.pub --role ROLE",
		Short: "Add an operator, or give one another key or role",
		Long: `Add an operator. NAME is known by an SSH public key: the one that the person has already. The private
key stays in the person's SSH agent, on their token, or in their file.

From the first operator on, every act is signed by an operator's key, and refused without one. The
first is an administrator, and gets a recovery code: write it down and lock it away. It gives an
administrator who lost a key another one.

Roles; each may do all that those above it may, but for the auditor:` + rolesText() + `

For an operator that is there already, this replaces the key, and the role where --role is given.`,
		Example: "  ironseal operator add ana --key ../ana.pub --role administrator",
		Args:    session.Exactly(1, "the operator's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			key, err := keyGiven(s, file, line)
			if err != nil {
				return err
			}
			ask := operators.Ask{Name: args[0], Key: key}
			if as != "" {
				if ask.Role, err = role.ParseRole(as); err != nil {
					return err
				}
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if err := agreed(cmd, s, e, ask); err != nil {
				return err
			}
			k, err := operators.Keep(cmd.Context(), e, ask)
			if err != nil {
				return err
			}
			return drawKept(s, k)
		},
	}
	c.Flags().StringVar(&file, "key", "", "the `FILE` of the operator's SSH public key")
	c.Flags().StringVar(&line, "key-line", "", "the SSH public key itself, a `LINE`, not a file")
	c.Flags().StringVar(&as, "role", "", "the operator's `ROLE`")
	var words []string
	for _, r := range role.Roles() {
		words = append(words, string(r.Role))
	}
	session.CompleteWords(c, "role", words...)
	return c
}

// agreed asks the others, where they have to agree.
func agreed(cmd *cobra.Command, s *session.Session, e *estate.Estate, ask operators.Ask) error {
	if need := e.Needs(event.OperatorKept{}); need > 1 {
		if !s.JSON {
			s.Out.Say("%s: %s, %s", term.Safe(ask.Name), ask.Key.Fingerprint(), cmp.Or(string(ask.Role),
				"the role as before"))
		}
		_ = cmd.Flags().Set("key", "") // the file is this machine's own: the key itself goes along
		if err := cmd.Flags().Set("key-line", ask.Key.String()); err != nil {
			return err
		}
		if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.OperatorKept{}, Need: need,
			Digest: session.DigestOf("keep", ask.Name, ask.Key.String(), string(ask.Role)),
			Title:  fmt.Sprintf("operator %s, %s", ask.Name, ask.Role)}); err != nil {
			return err
		}
	}
	return nil
}

func drawKept(s *session.Session, k *operators.Kept) error {
	if s.JSON {
		out := map[string]any{"operator": k.Operator.Name, "role": string(k.Operator.Role),
			"key": k.Operator.Key.Fingerprint(), "journal_head": k.Head.String()}
		if k.Code != nil {
			out["recovery_code"] = k.Code.Lines()
		}
		return s.PrintJSON(out)
	}
	what := "✓ added:"
	if k.Replaced {
		what = "✓ changed:"
	}
	s.Out.Say("%s %s, %s, %s", s.Out.Paint(term.Good, what), term.Safe(k.Operator.Name), k.Operator.Role,
		k.Operator.Key.Fingerprint())
	if k.First {
		s.Out.Say("  From now on every act is signed by an operator's key.")
	}
	if k.Code != nil {
		s.Out.Gap()
		s.Out.Hung("!", term.Careful, "Recovery code. It is shown once and kept nowhere. Write it on paper and "+
			"lock it away: "+
			"it gives an administrator who lost a key another one.")
		s.Out.Gap()
		for _, line := range k.Code.Lines() {
			s.Out.Say("    %s", s.Out.Paint(term.Strong, line))
		}
	}
	return nil
}

func list(s *session.Session) *cobra.Command {
	c := &cobra.Command{
		Use:     "list",
		Short:   "List the operators",
		Example: "  ironseal operator list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			all, err := operators.List(cmd.Context(), e)
			if err != nil {
				return err
			}
			if s.JSON {
				out := s.NewList()
				for _, o := range all {
					if err := out.Add(api.OperatorOf(o)); err != nil {
						return err
					}
				}
				return out.End()
			}
			if s.Quiet {
				for _, o := range all {
					s.Out.Say("%s", term.Safe(o.Name))
				}
				return nil
			}
			if len(all) == 0 {
				return s.Nothing("There are no operators: acts are recorded under the login's name, and are not " +
					"signed.")
			}
			var rows [][]term.Cell
			for _, o := range all {
				rows = append(rows, []term.Cell{{Text: o.Name, Tone: term.Strong}, {Text: string(o.Role)},
					{Text: o.Key.Kind()}, {Text: o.Key.Fingerprint()},
					{Text: o.Since.Format("2006-01-02") + " by " + o.By, Tone: term.Quiet}})
			}
			s.Out.Table([]string{"name", "role", "kind", "key", "since"}, rows, "kind", "since")
			return nil
		},
	}
	s.QuietFlag(c, "the names")
	return c
}

func show(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:     "show NAME",
		Short:   "Show an operator",
		Example: "  ironseal operator show ana",
		Args:    session.Exactly(1, "the operator's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			o, err := operators.Find(cmd.Context(), e, args[0])
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(api.OperatorOf(o))
			}
			s.Out.Say("%s  %s", s.Out.Paint(term.Strong, term.Safe(o.Name)), o.Role)
			s.Out.Pair(2, 12, "key", o.Key.Fingerprint())
			s.Out.Pair(2, 12, "line", o.Key.String())
			s.Out.Pair(2, 12, "since", o.Since.Format("2006-01-02 15:04 UTC")+", "+span.Distance(s.Moment(),
				o.Since)+", by "+
				term.Safe(o.By))
			return nil
		},
	}
}

func end(s *session.Session) *cobra.Command {
	var because string
	c := &cobra.Command{
		Use:   "end NAME --because TEXT",
		Short: "Take an operator's rights away",
		Long: `Take an operator's rights away, because the person left or lost the key. What they signed stays
theirs. The last administrator cannot be ended.`,
		Example: `  ironseal operator end ben --because "left the harbour office"`,
		Args:    session.Exactly(1, "the operator's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if need := e.Needs(event.OperatorEnded{}); need > 1 {
				if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.OperatorEnded{}, Need: need,
					Digest: session.DigestOf("end", args[0], because),
					Title:  "end the operator " + args[0]}); err != nil {
					return err
				}
			}
			head, err := operators.End(cmd.Context(), e, args[0], because)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"operator": args[0], "journal_head": head.String()})
			}
			s.Out.Say("%s %s   %s", s.Out.Paint(term.Good, "✓ ended:"), term.Safe(args[0]),
				s.Out.Paint(term.Quiet, "journal "+head.String()))
			return nil
		},
	}
	c.Flags().StringVar(&because, "because", "", "the reason, a `TEXT` for the journal")
	return c
}

func grants(s *session.Session) *cobra.Command {
	var prefix string
	c := &cobra.Command{
		Use:   "grants",
		Short: "Print the SQL by which a database enforces the roles too",
		Long: `Print SQL statements that make one database role for each role of operators, for records in
PostgreSQL. The owner of the tables runs them with psql, and makes each person's login a member of one:

  GRANT harbour_auditor TO dag;

Then the database refuses what a role may not write, whatever program asks. No role may change or delete
an entry of the journal.`,
		Example: "  ironseal operator grants --prefix harbour",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			text, err := e.DatabaseRoles(prefix)
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"sql": text})
			}
			return s.Out.Raw([]byte(text))
		},
	}
	c.Flags().StringVar(&prefix, "prefix", "ironseal", "the `NAME` with which the roles' names begin")
	return c
}

func recoverKey(s *session.Session) *cobra.Command {
	var file, code string
	c := &cobra.Command{
		Use:   "recover NAME --key FILE.pub",
		Short: "Give an administrator who lost a key another one, by the recovery code",
		Long: `Give an administrator who lost a key another one. The recovery code that was written down when the
first operator was added is asked for, line by line. It is used up: another one is shown, and takes
its place. The journal tells of it.

An administrator whose own key works needs no code: ironseal operator add.`,
		Example: "  ironseal operator recover ana --key ../ana-new.pub",
		Args:    session.Exactly(1, "the administrator's name"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if file == "" {
				return session.Misused("say which key: --key FILE.pub")
			}
			key, err := keyFrom(s, file)
			if err != nil {
				return err
			}
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if _, err := operators.Find(cmd.Context(), e, event.RecoveryName); err != nil {
				return err
			}
			typed, err := typedCode(cmd, s, code)
			if err != nil {
				return err
			}
			k, err := operators.Recover(cmd.Context(), e, typed, args[0], key)
			if err != nil {
				return err
			}
			return drawKept(s, k)
		},
	}
	c.Flags().StringVar(&file, "key", "", "the `FILE` of the new SSH public key")
	c.Flags().StringVar(&code, "code-file", "", "a `FILE` with the code, not typed")
	return c
}

func typedCode(cmd *cobra.Command, s *session.Session, file string) (*role.Code, error) {
	if file != "" {
		data, err := disk.Read(s.Path(file), role.Most)
		if err != nil {
			return nil, err
		}
		defer clear(data)
		return role.ReadCode(strings.Split(strings.TrimSpace(string(data)), "\n"))
	}
	var lines []string
	for _, ask := range []string{"First line of the code: ", "Second line: "} {
		line, err := s.Console.Secret(cmd.Context(), ask)
		if err != nil {
			return nil, err
		}
		lines = append(lines, string(line))
	}
	return role.ReadCode(lines)
}
