package session

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"

	"ironseal/internal/disk"
	"ironseal/internal/keystore"
	"ironseal/internal/keystore/sshagent"
	"ironseal/internal/term"
	"ironseal/pki/fault"
	"ironseal/pki/paper"
	"ironseal/pki/shamir"
)

// Custodians give their shares one after another, in files or at one terminal. What is typed is checked line by line,
// and each share against the note of who was given which.

// gathering collects the shares of a key.
type gathering struct {
	p    *Passphrases
	q    keystore.Question
	have []shamir.Share
}

// gathered is what enough shares open.
func (p *Passphrases) gathered(ctx context.Context, q keystore.Question) ([]byte, error) {
	g := &gathering{p: p, q: q}
	defer func() {
		for _, s := range g.have {
			s.Clear()
		}
	}()
	for _, file := range p.ShareFiles {
		s, err := g.fromFile(ctx, strings.TrimSpace(file))
		if err == nil {
			err = g.take(s)
		}
		if err != nil {
			return nil, fmt.Errorf("share %s: %w", file, err)
		}
	}
	for len(g.have) < q.Shares.Need {
		if err := g.typed(ctx); err != nil {
			return nil, err
		}
	}
	secret, err := shamir.Combine(g.have[:q.Shares.Need])
	if err != nil {
		return nil, err
	}
	defer clear(secret)
	return shamir.Text(secret), nil
}

// take accepts a share that is one of this key's, once.
func (g *gathering) take(s shamir.Share) error {
	c, err := g.q.Shares.Whose(s)
	if err != nil {
		return err
	}
	for _, h := range g.have {
		if h.Number == s.Number {
			return fault.New(fault.BadInput, "the share of %s is there already", c.Name)
		}
	}
	g.have = append(g.have, s)
	return nil
}

// state says who is there, and who is missing.
func (g *gathering) state() string {
	return fmt.Sprintf("%s: %d of %d shares are here; %d are needed. Missing: %s", g.q.Handle, len(g.have),
		len(g.q.Shares.Custodians), g.q.Shares.Need, strings.Join(g.q.Shares.Missing(g.have), ", "))
}

// shareLines is how many lines a share has on paper.
const shareLines = 3

// typed asks for one share. A line that cannot be right is asked for again.
func (g *gathering) typed(ctx context.Context) error {
	g.p.Errs.Say("%s", term.Safe(g.state()))
	var data []byte
	for n := 0; n < shareLines; {
		line, err := g.p.Console.Secret(ctx, fmt.Sprintf("Next share, line %d of %d: ", n+1, shareLines))
		if errors.Is(err, term.ErrNoTerminal) {
			return fmt.Errorf("%s: %w: give shares in files: --share-file FILE", g.state(), err)
		}
		if err != nil {
			return err
		}
		part, err := paper.ReadLine(n, string(line))
		clear(line)
		if err != nil {
			g.p.Errs.Say("%s. Once more.", term.Safe(err.Error()))
			continue
		}
		data = append(data, part...)
		n++
	}
	defer clear(data)
	s, err := shamir.Decode(data)
	if err == nil {
		err = g.take(s)
	}
	if err != nil {
		g.p.Errs.Say("%s.", term.Safe(err.Error()))
	}
	return nil
}

// onPage finds the lines of a share among those of a page.
var onPage = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?m)^[ \t]*[0-9A-Za-z]{4}(-[0-9A-Za-z]{2,4})+[ \t\r]*$`)
})

// fromFile reads a share that is in a file: sealed under its custodian's passphrase, or as the lines of its page.
func (g *gathering) fromFile(ctx context.Context, file string) (shamir.Share, error) {
	data, err := disk.Read(file, 16<<10)
	if err != nil {
		return shamir.Share{}, err
	}
	defer clear(data)
	sealed, err := shamir.ReadSealed(data)
	if err != nil {
		plain, err := paper.Read(onPage().FindAllString(string(data), shareLines+1))
		if err != nil {
			return shamir.Share{}, err
		}
		defer clear(plain)
		return shamir.Decode(plain)
	}
	if sealed.For != "" {
		return g.byKey(ctx, sealed)
	}
	for tried := 1; ; tried++ {
		who := sealed.Custodian
		secret, final, err := g.p.Passphrase(ctx, keystore.Question{Handle: who, Purpose: "to open the share",
			Again: tried > 1})
		if err != nil {
			return shamir.Share{}, err
		}
		s, err := sealed.Open(secret)
		clear(secret)
		if err == nil || final || tried == keystore.Tries {
			return s, err
		}
	}
}

// byKey opens a share that is sealed to an SSH key, with the private key among those available that belongs to it.
func (g *gathering) byKey(ctx context.Context, sealed shamir.Sealed) (shamir.Share, error) {
	for _, path := range g.p.ShareKeys {
		f, err := sshagent.ReadPrivateFile(strings.TrimSpace(path))
		if err != nil {
			return shamir.Share{}, err
		}
		defer f.Close()
		if f.Fingerprint() != sealed.For {
			continue
		}
		return sealed.OpenBy(func(info, data []byte) ([]byte, error) {
			return f.Open(ctx, sealed.Custodian, g.p, info, data)
		})
	}
	return shamir.Share{}, fault.New(fault.BadInput, "it is sealed to the SSH key %s of %s: give the file of its "+
		"private key: --share-key FILE", sealed.For, sealed.Custodian)
}
