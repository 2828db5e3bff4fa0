package upkeep

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ops/moving"
	"ironseal/internal/cli/session"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/term"
	"ironseal/pki/span"
)

// recordsAsked is where the records of a new directory are to be: what was typed, or what the environment says.
func recordsAsked(s *session.Session, typed string) string {
	if typed == "" {
		return strings.TrimSpace(s.Env("IRONSEAL_RECORDS"))
	}
	return strings.TrimSpace(typed)
}

func estateMove(s *session.Session) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "move",
		Short: "Move the records to a database on a server, or to a file",
		Long: `Copy all records to another place, and use them there from now on. The journal is the same, to
its newest entry. Where they were, a note is left: nothing can be recorded there any more. A file
that they were in is renamed.

With a PostgreSQL database, several machines share the records. The settings, templates, receivers,
sets and platforms of this directory are recorded with them. Name a database that is empty, or add
?search_path=NAME for a schema of it. Put the password into a password file (PGPASSFILE), not into
the address. Connections that the server ends are opened again. With several hosts in the address,
the program uses the one that can be written.

A move that was cut off is finished by the same command.`,
		Example: `  ironseal estate move --to postgresql://db.ternbay.example/harbour
  ironseal estate move --to records-2027.db`,
		Args: session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if strings.TrimSpace(to) == "" {
				return session.Misused("say where the records are to be: --to postgresql://HOST/DATABASE, or --to FILE")
			}
			s.Inspecting = true // it may have been cut off
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			if need := e.Needs(event.FileRecorded{}); need > 1 {
				if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.RecordsMoved{}, Need: need,
					Digest: session.DigestOf("move", strings.TrimSpace(to)), Title: "move the records"}); err != nil {
					return err
				}
			}
			done := s.EstateEnv().Progress("copying the records")
			m, err := moving.Move(cmd.Context(), e, strings.TrimSpace(to))
			done()
			if err != nil {
				return err
			}
			if s.JSON {
				return s.PrintJSON(map[string]any{"from": m.From, "to": m.To, "journal_head": m.Head.String(),
					"aside": m.Aside})
			}
			s.Out.Say("%s the records to %s, journal %s", s.Out.Paint(term.Good, "✓ moved"), term.Safe(m.To), m.Head)
			if m.Aside != "" {
				s.Out.Say("  the file that they were in is %s now", term.Safe(m.Aside))
			}
			s.Next(session.Hint{Why: "check them", Command: "ironseal estate check"})
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the address of a `DATABASE`, or the name of a new file in the estate's "+
		"directory")
	return c
}

func estateJoin(s *session.Session) *cobra.Command {
	var records string
	c := &cobra.Command{
		Use:   "join DIR",
		Short: "Make the directory of a further machine, for records on a server",
		Long: `Make a directory for records that are in a database already. It gets the settings, templates,
receivers, sets and platforms that are on record. It gets no key: whoever is to sign at this
machine brings the sealed key file, or keeps the key in an SSH agent.

Without --records, the environment variable IRONSEAL_RECORDS says where they are.`,
		Example: "  ironseal estate join harbour --records postgresql://db.ternbay.example/harbour",
		Args:    session.Exactly(1, "the directory to make"),
		RunE: func(cmd *cobra.Command, args []string) error {
			at := recordsAsked(s, records)
			if at == "" {
				return session.Misused("say where the records are: --records postgresql://HOST/DATABASE")
			}
			dir := s.Path(args[0])
			e, err := moving.Join(cmd.Context(), dir, at, s.EstateEnv())
			if err != nil {
				return err
			}
			defer e.Close()
			if s.JSON {
				return s.PrintJSON(map[string]any{"directory": dir, "records": at})
			}
			s.Out.Say("%s %s, for the records of %s", s.Out.Paint(term.Good, "✓ made"), term.Safe(dir),
				term.Safe(e.Settings.Organisation.Name))
			s.Next(session.Hint{Why: "see what is there",
				Command: "ironseal estate status --estate " + s.Shell.Word(dir)})
			return nil
		},
	}
	c.Flags().StringVar(&records, "records", "", "the address of the `DATABASE`")
	return c
}

func estateFiles(s *session.Session) *cobra.Command {
	return session.Group("files", "Templates, receivers, sets, platforms and settings that machines share",
		session.Reading(filesList(s)), filesUpdate(s), filesRecord(s))
}

func filesList(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "Compare the files of this machine with those on record",
		Long: `Machines that share records have the same files. This compares those of this machine with those
on record. While one differs, no command changes anything.`,
		Example: "  ironseal estate files list",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.Estate(cmd.Context())
			if err != nil {
				return err
			}
			list, err := e.RecordedFiles(cmd.Context())
			if err != nil {
				return err
			}
			if s.JSON {
				out := s.NewList()
				for _, f := range list {
					if err := out.Add(map[string]any{"path": f.Path, "state": string(f.State), "since": f.Since,
						"by": f.By}); err != nil {
						return err
					}
				}
				return out.End()
			}
			if len(list) == 0 {
				return s.Nothing("No file is on record: they are this machine's own.")
			}
			var rows [][]term.Cell
			for _, f := range list {
				since, tone := "", term.Normal
				if !f.Since.IsZero() {
					since = f.Since.Format("2006-01-02") + " by " + f.By
				}
				if f.State != estate.FileSame {
					tone = term.Careful
				}
				rows = append(rows, []term.Cell{{Text: f.Path}, {Text: string(f.State), Tone: tone},
					{Text: since, Tone: term.Quiet}})
			}
			s.Out.Table([]string{"file", "state", "on record since"}, rows)
			return nil
		},
	}
}

func filesUpdate(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "update",
		Short: "Take the files on record to this machine",
		Long: `Show how the files of this machine differ from those on record, and replace them. A file that is
not on record is taken away.`,
		Example: "  ironseal estate files update",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, list, err := differing(cmd.Context(), s)
			if err != nil || len(list) == 0 {
				return err
			}
			for _, f := range list {
				drawDifference(s, f, f.Here, f.Recorded)
			}
			if err := s.Agree(cmd.Context(), "Replace the files of this machine?"); err != nil {
				return err
			}
			if err := moving.UpdateFiles(e, list); err != nil {
				return err
			}
			return filesDone(s, len(list), "✓ replaced:")
		},
	}
}

func filesRecord(s *session.Session) *cobra.Command {
	return &cobra.Command{
		Use:   "record",
		Short: "Record the files of this machine, for all machines",
		Long: `Show how the files of this machine differ from those on record, and record them. The other
machines say so then, and take them with: ironseal estate files update.

The first time, this records all of them. From then on, every machine compares.`,
		Example: "  ironseal estate files record --yes",
		Args:    session.Exactly(0, "no argument"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, list, err := differing(cmd.Context(), s)
			if errors.Is(err, errNoneRecorded) {
				list, err = moving.All(e)
			}
			if err != nil || len(list) == 0 {
				return err
			}
			for _, f := range list {
				drawDifference(s, f, f.Recorded, f.Here)
			}
			parts := []string{"record files"}
			for _, f := range list {
				parts = append(parts, f.Path, f.Recorded, f.Here)
			}
			if err := s.AgreeTo(cmd.Context(), e, session.Agreement{Act: event.FileRecorded{},
				Need: e.Needs(event.FileRecorded{}), Digest: session.DigestOf(parts...), Title: "record " +
					span.Count(len(list), "file"), Question: "Record the files of this machine?"}); err != nil {
				return err
			}
			if err := moving.RecordFiles(cmd.Context(), e, list); err != nil {
				return err
			}
			return filesDone(s, len(list), "✓ recorded:")
		},
	}
}

func filesDone(s *session.Session, n int, what string) error {
	if s.JSON {
		return s.PrintJSON(map[string]any{"files": n})
	}
	s.Out.Say("%s %s", s.Out.Paint(term.Good, what), span.Count(n, "file"))
	return nil
}

// errNoneRecorded says that files were never recorded.
var errNoneRecorded = errors.New("no file is on record")

// differing are the files that are not as they are on record.
func differing(ctx context.Context, s *session.Session) (*estate.Estate, []estate.RecordedFile, error) {
	s.OwnFiles = true
	e, err := s.Estate(ctx)
	if err != nil {
		return nil, nil, err
	}
	list, err := e.RecordedFiles(ctx)
	if err == nil && len(list) == 0 {
		return e, nil, errNoneRecorded
	}
	list = slices.DeleteFunc(list, func(f estate.RecordedFile) bool { return f.State == estate.FileSame })
	if err == nil && len(list) == 0 && !s.JSON {
		s.Out.Say("All files are those on record.")
	}
	return e, list, err
}

// linesAround is how many lines are shown before and after one that differs.
const linesAround = 2

func drawDifference(s *session.Session, f estate.RecordedFile, from, to string) {
	if s.JSON || s.Yes && from == "" {
		return
	}
	s.Errs.Say("%s  %s", s.Errs.Paint(term.Strong, term.Safe(f.Path)), string(f.State))
	if from == "" {
		s.Errs.Say("  %s", span.Count(strings.Count(to, "\n"), "line"))
		return
	}
	for _, line := range term.Difference(from, to, linesAround) {
		tone := map[byte]term.Tone{'-': term.Bad, '+': term.Good}[line[0]]
		s.Errs.Say("  %s", s.Errs.Paint(tone, term.Safe(line)))
	}
}
