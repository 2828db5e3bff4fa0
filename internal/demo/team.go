package demo

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/ssh"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
)

// crew are the people of the story, each with a role.
var crew = []struct{ name, role string }{{"ana", "administrator"}, {"ben", "administrator"}, {"cleo", "signer"},
	{"dag", "auditor"}}

// by is a command of someone: their key is in a file here, and would be in their agent.
func by(name, command string) string { return command + " --operator-key ../people/" + name + ".key" }

// PlayTeam plays the story of several people on one estate: acts are signed by SSH keys, a role may do so much, two
// must
// agree to a renewal of the root, and three of five custodians open its key.
func PlayTeam(_ context.Context, s Stage) error {
	if err := s.setUp(); err != nil {
		return err
	}
	if err := s.play(s.teamFounding()); err != nil {
		return err
	}
	if err := s.play(s.teamAgrees()); err != nil {
		return err
	}
	return s.play(s.teamCustodians())
}

func (s Stage) teamFounding() []scene {
	keys := " --key ecdsa-p256"
	if s.FullKeys {
		keys = ""
	}
	scenes := []scene{
		{say: "Tern Bay Ferries has an authority, which one person runs so far.",
			typed: []string{`estate create harbour --organisation "Tern Bay Ferries" --country NO`},
			then: func() error {
				if err := os.Chdir("harbour"); err != nil || s.FullKeys {
					return err
				}
				return change("encryption-memory = 64", "encryption-memory = 8") // so that no one waits
			}},
		{typed: []string{"authority create root --yes" + keys, "authority create services --under root --yes" + keys},
			then: people},
		{say: "Four people share the work. Each is known by the SSH public key that they have already.\n(The demo " +
			"has " +
			"their private keys in ../people; at work they stay in each person's SSH agent.)"},
	}
	for _, c := range crew {
		scenes = append(scenes, scene{typed: []string{by("ana", fmt.Sprintf(
			"operator add %s --key ../people/%[1]s.pub --role %s", c.name, c.role))}})
	}
	return append(scenes, scene{say: "From now on every act is signed, and allowed by a role. Cleo signs requests; " +
		"Dag reads.",
		typed: []string{by("cleo", "request receive ../inbox/mail.txt --from \"harbour mail team\""),
			by("cleo", "sign R1 --template web-server --yes"), "operator list"}},
		scene{say: "Dag tries to end an operator, and Cleo tries to make an authority. Nothing is changed.",
			typed: []string{by("dag", "operator end ben --because trying"),
				by("cleo", "authority create stores --under root --key ecdsa-p256 --yes")}, mayFail: true})
}

// change changes a line of the settings, as someone with an editor would.
func change(from, to string) error {
	text, err := os.ReadFile(estate.SettingsFile)
	if err != nil {
		return err
	}
	return disk.Disk{}.Replace(estate.SettingsFile, bytes.Replace(text, []byte(from), []byte(to), 1), 0o644)
}

// people makes the SSH keys of the crew.
func people() error {
	if err := disk.OwnDir("../people"); err != nil {
		return err
	}
	for _, c := range crew {
		public, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		block, err := ssh.MarshalPrivateKey(private, c.name)
		if err != nil {
			return err
		}
		line, err := ssh.NewPublicKey(public)
		if err != nil {
			return err
		}
		for name, data := range map[string][]byte{c.name + ".key": pem.EncodeToMemory(block),
			c.name + ".pub": ssh.MarshalAuthorizedKey(line)} {
			if err := (disk.Disk{}).New(filepath.Join("..", "people", name), data, 0o600); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s Stage) teamAgrees() []scene {
	return []scene{
		{say: "The settings say now that two must agree to what changes an authority: authorities = 2 in [approvals].",
			then: func() error { return change("authorities         = 0", "authorities         = 2") }},
		{say: "Ana wants to renew services. What she sees becomes a proposal.",
			typed: []string{by("ana", "authority renew services --lifetime 12y --yes")}},
		{say: "Ben plans it again at his machine, sees the same sheet, and signs its digest. Then it can be done.",
			typed: []string{"proposal list", by("ben", "approve P1 --yes"), by("ben", "proposal complete P1"),
				"authority tree"}},
	}
}

func (s Stage) teamCustodians() []scene {
	who := []string{"ana", "ben", "cleo", "dag", "eve"}
	given := ""
	for _, w := range who {
		given += fmt.Sprintf(" --new-passphrase-file %s=../people/%[1]s.pass", w)
	}
	shares := func(some ...string) (out string) {
		for _, w := range some {
			out += fmt.Sprintf(" --share-file ../shares/root.%s.share --passphrase-file %[1]s=../people/%[1]s.pass", w)
		}
		return out
	}
	return []scene{
		{say: "No one should be able to open the root alone. Its key is divided among five " +
			"custodians, three of whom open it.\nThat changes who holds a key of an authority, so two people agree " +
			"to it too.",
			then: func() error {
				for _, w := range who {
					if err := (disk.Disk{}).New(filepath.Join("..", "people", w+".pass"),
						[]byte("the words of "+w+"\n"),
						0o600); err != nil {
						return err
					}
				}
				return nil
			}},
		{typed: []string{by("ana", "authority share root --need 3 --among "+strings.Join(who,
			",")+" --out ../shares"+given+
			" --yes"), by("ben", "approve P2 --yes"), by("ana", "proposal complete P2")}},
		{say: "Two of them are too few for a list of the root; with a third it is signed.",
			typed:   []string{by("cleo", "revocations publish root --all"+shares("ana", "ben"))},
			mayFail: true},
		{typed: []string{by("cleo", "revocations publish root --all"+shares("ana", "ben", "eve"))}},
		{say: "Anybody can prove from the journal alone who did what.",
			typed: []string{"journal verify", "estate check", "estate status"}},
	}
}
