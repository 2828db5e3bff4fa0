package authority

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironseal/internal/app/ca/custody"
	"ironseal/internal/cli/session"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/keystore/sshagent"
	"ironseal/internal/term"
	"ironseal/pki/operator"
)

func authorityShare(s *session.Session) *cobra.Command {
	var asked shareFlags
	c := &cobra.Command{
		Use:   "share HANDLE --need N --among NAME,NAME,... --out DIR",
		Short: "Let several custodians hold an authority's key together",
		Long: `Divide what opens an authority's keys among custodians, so that some of them together open the keys,
and fewer learn nothing. The keys and the certificates stay the same.

Each custodian gets a file in DIR, sealed under a passphrase of their own, or to an SSH key of theirs
(--to-key): the file of the private key opens it then. A key that a token holds cannot. With --pages, each also gets
a page to print and to type from; the pages are written to standard output, one after another, and kept
nowhere. Lines on a page have checks: a typing error is found at once.

To open the keys later, custodians give their files (--share-file) or type their lines at one terminal.
Nothing that is put together is written.

Run it again to change the custodians: the shares that there were are worthless then. Copies of the key
file in old backups still open with them.`,
		Example: `  ironseal authority share root --need 2 --among ana,ben,cleo --out ../shares --new-passphrase-file ../passphrase.txt
  ironseal authority share root --need 2 --among ana,ben,cleo --out ../shares --to-key ana=../ana.pub`,
		Args: session.Exactly(1, "the authority's handle"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return share(cmd, s, args[0], asked)
		},
		ValidArgsFunction: s.Handles,
	}
	c.Flags().IntVar(&asked.need, "need", 0, "how many open the key together")
	c.Flags().StringSliceVar(&asked.among, "among", nil, "the `NAMES` of the custodians, with commas")
	c.Flags().StringVar(&asked.out, "out", "", "the `DIR` for the custodians' files")
	c.Flags().BoolVar(&asked.pages, "pages", false, "also write pages to print, to standard output")
	c.Flags().StringArrayVar(&asked.files, "new-passphrase-file", nil,
		"read a custodian's passphrase from `[NAME=]FILE`; may be repeated")
	c.Flags().StringArrayVar(&asked.keys, "to-key", nil,
		"seal a custodian's share to the SSH public key in `NAME=FILE`; may be repeated")
	return c
}

// shareFlags are the flags of authority share, as typed.
type shareFlags struct {
	need  int
	among []string
	out   string
	pages bool
	files []string
	keys  []string
}

// publicKeys are the SSH keys that shares are sealed to, by custodian.
func (f shareFlags) publicKeys(s *session.Session) (map[string]operator.Key, error) {
	out := map[string]operator.Key{}
	for _, k := range f.keys {
		who, file, ok := strings.Cut(k, "=")
		if !ok || !slices.Contains(f.among, who) {
			return nil, session.Misused("--to-key %q: write the name of a custodian, = and a file of an SSH public "+
				"key", k)
		}
		data, err := disk.Read(s.Path(file), operator.Most)
		if err != nil {
			return nil, err
		}
		if out[who], err = operator.ParseKey(string(data)); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		if out[who].Public() == nil {
			return nil, session.Misused("%s: a token holds this key, and only signs: no share can be sealed to it",
				file)
		}
	}
	return out, nil
}

func share(cmd *cobra.Command, s *session.Session, handle string, f shareFlags) error {
	if len(f.among) == 0 || f.need == 0 || f.out == "" {
		return session.Misused("say how many are needed, who the custodians are, and where their files go: " +
			"--need 3 --among ana,ben,cleo,dag,eve --out DIR")
	}
	if f.pages && s.JSON {
		return session.Misused("--pages writes pages to standard output, where --json writes JSON")
	}
	to, err := f.publicKeys(s)
	if err != nil {
		return err
	}
	e, err := s.Estate(cmd.Context())
	if err != nil {
		return err
	}
	if need := e.Needs(event.KeyHeld{}); need > 1 {
		if err := agreeToHandle(s, cmd, e, event.KeyHeld{}, handle, fmt.Sprint(f.need, f.among),
			"share the key of", "Let them hold the key together?"); err != nil {
			return err
		}
	}
	ask := custody.ShareAsk{Handle: handle, Need: f.need, Among: f.among, Give: func(list []custody.Given) error {
		return give(cmd, s, e, list, f, to)
	}}
	head, err := custody.Share(cmd.Context(), e, ask)
	if err != nil {
		return err
	}
	if s.JSON {
		return s.PrintJSON(map[string]any{"authority": handle, "need": f.need, "custodians": f.among,
			"journal_head": head.String()})
	}
	screen := s.Out
	if f.pages {
		screen = s.Errs
	}
	screen.Say("%s the key of %s: any %d of %s open it   %s", screen.Paint(term.Good, "✓ shared:"), handle,
		f.need,
		strings.Join(f.among, ", "), screen.Paint(term.Quiet, "journal "+head.String()))
	screen.Say("  their files are in %s: give each to its custodian, and delete them here", term.Safe(s.
		Path(f.out)))
	return nil
}

// give seals each share under its custodian's passphrase, or to their SSH key, and prints the pages.
func give(cmd *cobra.Command, s *session.Session, e *estate.Estate, list []custody.Given, f shareFlags,
	to map[string]operator.Key) error {
	dir := s.Path(f.out)
	if err := disk.OwnDir(dir); err != nil {
		return err
	}
	choose := s.NewPassphrase(f.files)
	seal := func(g custody.Given) ([]byte, error) {
		if k, there := to[g.Custodian]; there {
			return g.Share.SealFor(g.Custodian, g.Keys, k.Fingerprint(), func(info, plain []byte) ([]byte, error) {
				return sshagent.SealTo(k, info, plain)
			})
		}
		secret, err := choose(cmd.Context(), g.Custodian)
		if err != nil {
			return nil, err
		}
		defer clear(secret)
		return g.Share.Seal(g.Custodian, g.Keys, secret, e.Settings.Keys.EncryptionMemory<<20, s.Entropy())
	}
	for _, g := range list {
		sealed, err := seal(g)
		if err != nil {
			return err
		}
		if err := s.Disk.New(filepath.Join(dir, g.Keys+"."+g.Custodian+".share"), sealed, 0o600); err != nil {
			return err
		}
	}
	if !f.pages {
		return nil
	}
	for i, g := range list {
		if i > 0 {
			s.Out.Say("\f")
		}
		s.Out.Say("%s", page(e, g, len(list)))
	}
	return nil
}

// page is what a custodian keeps on paper.
func page(e *estate.Estate, g custody.Given, of int) string {
	return fmt.Sprintf(`%s
Share of the key of %s

Custodian   %s
Needed      %d of %d shares
Division    %x, made %s

    %s

Lock this page away. Type the lines where the program asks for them. Case and
hyphens do not count. A line that is mistyped is refused at once.`, e.Settings.Organisation.Name, g.Keys, g.Custodian,
		g.Share.Need, of, g.Share.Split, e.Now().Format("2006-01-02"), strings.Join(g.Share.Lines(), "\n    "))
}
