package demo

import (
	"archive/zip"
	"bytes"
	"crypto"
	"crypto/rand"
	"encoding/asn1"
	"fmt"
	"math/big"
	"path/filepath"
	"time"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/san"
)

// entity is a certificate of the partner's, with its key.
type entity struct {
	*cert.Certificate
	signer crypto.Signer
}

// partner makes what the harbour on Skua Island sent: an archive of its roots, as its own
// program offers it, and the chain of its gateway.
func partner(d disk.Disk) error {
	root, err := entitled(nil, skua, "Skua Island Root", 15)
	if err != nil {
		return err
	}
	services, err := entitled(&root, skua, "Skua Island Services", 8)
	if err != nil {
		return err
	}
	gateway, err := entitled(&services, skua, "gw.skua.ternbay.example", 1, "gw.skua.ternbay.example")
	if err != nil {
		return err
	}
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	for _, f := range []struct {
		name string
		data []byte
	}{
		{"roots/linux/5a1b0c2d.0", bundle.PEM(bundle.Certificate, root.Raw)},
		{"roots/windows/5a1b0c2d.0.crt", root.Raw},
		{"roots/windows/77e0a913.0.crt", services.Raw},
		{"server.pem", bundle.PEM(bundle.Certificate, gateway.Raw)},
		{"README.txt", []byte("Import the file for your system.\n")},
	} {
		out, err := w.Create(f.name)
		if err == nil {
			_, err = out.Write(f.data)
		}
		if err != nil {
			return fmt.Errorf("demo: %w", err)
		}
	}
	if err := w.Close(); err != nil {
		return fmt.Errorf("demo: %w", err)
	}
	if err := disk.Dir("partner"); err != nil {
		return err
	}
	if err := d.New(filepath.Join("partner", "skua-roots.zip"), z.Bytes(), 0o644); err != nil {
		return err
	}
	chain := append(bundle.PEM(bundle.Certificate, gateway.Raw), bundle.PEM(bundle.Certificate, services.Raw)...)
	return d.New(filepath.Join("partner", "gateway.pem"), chain, 0o644)
}

const skua = "Skua Island Harbour"

// entitled makes a certificate of someone else's: an authority's where no name is given.
func entitled(by *entity, organisation, commonName string, years int, names ...string) (entity, error) {
	signer, err := key.Generate(key.P256, rand.Reader)
	if err != nil {
		return entity{}, err
	}
	return entitledFor(by, signer, organisation, commonName, years, names...)
}

// entitledFor makes a certificate for a key. With years below zero it has ended.
func entitledFor(by *entity, signer crypto.Signer, organisation, commonName string, years int,
	names ...string) (entity, error) {
	pub, err := key.Of(signer)
	if err != nil {
		return entity{}, err
	}
	subject, err := dn.New(dn.Pair{Type: "O", Value: organisation}, dn.Pair{Type: "CN", Value: commonName})
	if err != nil {
		return entity{}, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 100))
	if err != nil {
		return entity{}, err
	}
	if by == nil {
		by = &entity{&cert.Certificate{Subject: subject, Key: pub}, signer}
	}
	now := time.Now().UTC().Truncate(time.Second)
	draft := cert.Draft{Serial: serial.Add(serial, big.NewInt(1)), Subject: subject, Issuer: by.Subject,
		NotBefore: now.AddDate(min(0, years-1), -2, 0), NotAfter: now.AddDate(years, 0, 0), SPKI: pub.SPKI}
	draft.Extensions = ext.Set{ext.Basic{Authority: len(names) == 0, PathLength: -1}.Extension(),
		ext.KeyID(pub.Identifier()), ext.AuthorityKey(by.Key.Identifier())}
	usage := ext.KeyCertSign | ext.CRLSign
	if len(names) > 0 {
		usage = ext.DigitalSignature
		if draft.Extensions, err = leafExtensions(draft.Extensions, names); err != nil {
			return entity{}, err
		}
	}
	draft.Extensions = append(draft.Extensions, usage.Extension())
	der, err := draft.Sign(by.signer, rand.Reader)
	if err != nil {
		return entity{}, err
	}
	c, err := cert.Read(der)
	return entity{c, signer}, err
}

// leafExtensions adds the names, and the usages of a server and a client.
func leafExtensions(set ext.Set, names []string) (ext.Set, error) {
	var list []san.Name
	for _, n := range names {
		list = append(list, san.Found(san.DNS, n))
	}
	alternative, err := ext.NamesExtension(list, false)
	if err != nil {
		return nil, err
	}
	var usages []asn1.ObjectIdentifier
	for _, u := range []string{"serverAuth", "clientAuth"} {
		id, err := ext.ParseExtendedUsage(u)
		if err != nil {
			return nil, err
		}
		usages = append(usages, id)
	}
	return append(set, alternative, ext.ExtendedExtension(usages, false)), nil
}
