package kit

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/ext"
	"ironseal/pki/label"
	"ironseal/pki/path"
	"ironseal/pki/pkcs"
)

// A kit is signed by a key that is made for it and thrown away: its certificate says so by its
// subject, and has the usage for signing documents (RFC 9336). No authority's key ever signs a
// kit, and no certificate for servers, people or programs is taken for a kit's.

// SignatureFile is the signature over the list of hashes, where the kit is signed.
const SignatureFile = SumsFile + ".p7s"

// SigningTemplate is the template of certificates for such keys, and SignerName their common
// name.
const (
	SigningTemplate = "kit-signing"
	SignerName      = "Trust kits"
)

// SigningTemplateText is the template that the program brings.
func SigningTemplateText() ([]byte, error) {
	return texts.ReadFile("text/" + SigningTemplate + ".toml")
}

// Checked is what was found of a kit.
type Checked struct {
	Files  int
	Faults []string // files that were changed, are missing or were added

	Signed  bool
	Signer  *cert.Certificate
	When    time.Time    // as the signer says
	Verdict path.Verdict // of the signer's certificate
	Against []string     // what speaks against the signature
}

// Good reports whether the kit is whole, and signed by whom it should be.
func (c Checked) Good() bool { return len(c.Faults) == 0 && c.Signed && len(c.Against) == 0 }

// Check holds the files of a kit against its list of hashes, and the signature over that
// against anchors.
func Check(files map[string][]byte, q path.Question) (Checked, error) {
	c := Checked{Files: len(files)}
	sums, ok := files[SumsFile]
	if !ok {
		return c, fmt.Errorf("it is no kit: there is no %s in it", SumsFile)
	}
	listed, err := readSums(sums)
	if err != nil {
		return c, err
	}
	for name, sum := range listed {
		data, there := files[name]
		switch {
		case !there:
			c.Faults = append(c.Faults, name+" is missing")
		case sha256.Sum256(data) != sum:
			c.Faults = append(c.Faults, name+" was changed")
		}
	}
	for name := range files {
		if _, known := listed[name]; !known && name != SumsFile && name != SignatureFile {
			c.Faults = append(c.Faults, name+" was added")
		}
	}
	slices.Sort(c.Faults)
	if signature, there := files[SignatureFile]; there {
		c.Signed = true
		c.judge(sums, signature, q)
	}
	return c, nil
}

// readSums reads a list of hashes as sha256sum writes it.
func readSums(data []byte) (map[string][32]byte, error) {
	out := map[string][32]byte{}
	for line := range bytes.Lines(data) {
		text := strings.TrimRight(string(line), "\r\n")
		sum, name, ok := strings.Cut(text, "  ")
		raw, err := hex.DecodeString(sum)
		if _, twice := out[name]; !ok || err != nil || len(raw) != 32 || !label.IsFileName(name) || twice {
			return nil, fmt.Errorf("%s cannot be parsed: the line %q", SumsFile, text[:min(len(text), 100)])
		}
		out[name] = [32]byte(raw)
	}
	return out, nil
}

// judge judges the signature.
func (c *Checked) judge(sums, signature []byte, q path.Question) {
	against := func(err error) { c.Against = append(c.Against, err.Error()) }
	d, err := pkcs.ReadDetached(signature)
	if err != nil {
		against(err)
		return
	}
	c.When = d.When
	var all []*cert.Certificate
	for _, der := range d.Certificates {
		x, err := cert.Read(der)
		if err != nil {
			against(err)
			return
		}
		all = append(all, x)
	}
	at := d.Signer()
	if at < 0 {
		against(errors.New("the signer's certificate is not in the signature"))
		return
	}
	c.Signer = all[at]
	if err := d.Verify(sums, c.Signer.Key); err != nil {
		against(err)
		return
	}
	q.Usage = ext.DocumentSigning
	c.Verdict = path.Verify(c.Signer, all, q)
	for _, f := range c.Verdict.Reasons() {
		c.Against = append(c.Against, f.Message)
	}
	if s := c.Signer; s.Subject.CommonName() != SignerName || !s.HasExtended || s.IsAuthority() {
		against(fmt.Errorf("it is signed by %s, whose certificate is not one for kits", s.Title()))
	}
}
