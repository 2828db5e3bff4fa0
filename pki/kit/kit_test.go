package kit

import (
	"archive/tar"
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"
	"unicode/utf8"

	"ironseal/pki/label"
	"ironseal/pki/pkcs"
	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// hostile is a set whose certificates say what no script, policy or page may repeat.
func hostile(t testing.TB) Job {
	t.Helper()
	s := trust.Set{Name: "partners", Title: "what \u202e$(touch x)"}
	for i, subject := range []string{"CN=Root $(touch x) `id` \"'|&,O=Tern Bay",
		"CN=Second\u202eRoot \u0007bell"} {
		a := trust.Anchor{Certificate: specimen.Make(t, nil, specimen.Plan{Subject: subject, Authority: true}).Cert,
			From: "root.g1", Purposes: []trust.Purpose{trust.Servers}}
		if i == 1 {
			var err error
			if a.Permitted, err = trust.ParsePermitted([]string{"dns:sandpiper.example",
				"ip:192.0.2.0/24"}); err != nil {
				t.Fatal(err)
			}
		}
		if err := s.Add(a); err != nil {
			t.Fatal(err)
		}
	}
	return Job{Set: s, Mark: MarkOf("Tern Bay $(x) Ferries"), Owner: "Tern Bay \u0007Ferries"}
}

// Every platform that the program knows packs a hostile set: the same bytes each time, every
// file in the list of hashes, every name safe, nothing of a certificate's text in a script or
// policy, and nothing raw on the page.
func TestEveryPlatformPacksAHostileSet(t *testing.T) {
	j := hostile(t)
	if len(StarterNames()) < 18 {
		t.Errorf("%d platforms", len(StarterNames()))
	}
	for _, name := range StarterNames() {
		p, err := Parse(name, []byte(Starter(name)))
		if err != nil {
			t.Fatal(err)
		}
		files, notes, err := p.Pack(j)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		again, _, _ := p.Pack(Job{Set: trust.Set{Name: j.Set.Name, Title: j.Set.Title,
			Anchors: []trust.Anchor{j.Set.Anchors[1], j.Set.Anchors[0]}}, Mark: j.Mark, Owner: j.Owner})
		sums := map[string]string{}
		for i, f := range files {
			if !bytes.Equal(f.Data, again[i].Data) || f.Name != again[i].Name {
				t.Errorf("%s: %s differs from run to run", name, f.Name)
			}
			if !label.IsFileName(f.Name) || strings.ContainsAny(f.Name, "$`\"' ") || sums[f.Name] != "" {
				t.Errorf("%s: the file name %q", name, f.Name)
			}
			sums[f.Name] = fmt.Sprintf("%x", sha256.Sum256(f.Data))
			text := string(f.Data)
			if isBinary(f.Name) && !strings.Contains(text, "-----BEGIN") {
				continue // it is the certificate itself
			}
			if words := f.Name == PageFile || f.Name == "fingerprints.txt"; strings.ContainsAny(text, "\u202e\u0007") ||
				!words && (strings.Contains(text, "$(touch") || strings.Contains(text, "`id`")) {
				t.Errorf("%s: %s repeats a certificate's text", name, f.Name)
			}
		}
		if !p.Limits && !strings.Contains(strings.Join(notes, " "), "no limits on names") {
			t.Errorf("%s: nobody is told that limits do not hold: %v", name, notes)
		}
		list := string(files[len(files)-1].Data)
		for f, sum := range sums {
			if f != SumsFile && !strings.Contains(list, sum+"  "+f+"\n") {
				t.Errorf("%s: %s is not in %s", name, f, SumsFile)
			}
		}
		for _, line := range strings.Split(string(files[len(files)-2].Data), "\n") {
			if utf8.RuneCountInString(line) > 112 { // a fingerprint with colons is the longest
				t.Errorf("%s: the page has a line of %d: %s", name, utf8.RuneCountInString(line), line)
			}
		}
		if strings.Count(list, "\n") != len(files)-1 {
			t.Errorf("%s: %s", name, list)
		}
	}
}

func isBinary(name string) bool {
	return slices.Contains([]string{".der", ".cer", ".p12", ".p7b", ".crt", ".reg", ".tar"}, filepath.Ext(name))
}

// Whatever the form, the certificates in it are the set's, byte for byte.
func TestFormsHoldTheCertificates(t *testing.T) {
	j := hostile(t)
	want := map[string]bool{}
	for _, a := range j.Set.Anchors {
		want[string(a.Certificate.Raw)] = true
	}
	same := func(what string, got [][]byte) {
		t.Helper()
		seen := map[string]bool{}
		for _, g := range got {
			if !want[string(g)] {
				t.Errorf("%s holds a certificate that is not of the set", what)
			}
			seen[string(g)] = true
		}
		if len(seen) != len(want) {
			t.Errorf("%s holds %d of %d certificates", what, len(seen), len(want))
		}
	}
	decode := func(text string) []byte {
		der, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
		if err != nil {
			t.Error(err)
		}
		return der
	}
	file := func(platform, name string) []byte {
		t.Helper()
		p, err := Parse(platform, []byte(Starter(platform)))
		if err != nil {
			t.Fatal(err)
		}
		files, _, err := p.Pack(j)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			if f.Name == name {
				return f.Data
			}
		}
		t.Fatalf("%s has no %s", platform, name)
		return nil
	}
	pems := func(text []byte, by string) (out [][]byte) {
		text = []byte(strings.ReplaceAll(string(text), "\n"+by, "\n"))
		for b, rest := pem.Decode(text); b != nil; b, rest = pem.Decode(rest) {
			out = append(out, b.Bytes)
		}
		return out
	}
	same("bundle", pems(file("bundle", "roots.pem"), ""))
	list, err := pkcs.ReadSignedData(file("bundle", "roots.p7b"))
	if err != nil {
		t.Error(err)
	}
	same("PKCS#7", list)
	store, err := pkcs.ReadStore(file("java", "roots.p12"), nil)
	if err != nil {
		t.Error(err)
	}
	list = nil
	for _, e := range store {
		list = append(list, e.Certificate)
	}
	same("PKCS#12", list)
	same("ConfigMap", pems(file("kubernetes", "roots.yaml"), "    "))
	same("Ansible", pems(file("ansible", "roots.yml"), "      "))
	same("cloud-init", pems(file("cloud-init", "user-data.yaml"), "      "))
	var policy struct {
		CACertificates                []string
		CACertificatesWithConstraints []struct {
			Certificate string
			Constraints struct {
				Names    []string `json:"permitted_dns_names"`
				Networks []string `json:"permitted_cidrs"`
			}
		}
	}
	if err := json.Unmarshal(file("chromium", j.Mark+"-"+j.Set.Name+"-roots.json"), &policy); err != nil {
		t.Fatal(err)
	}
	c := policy.CACertificatesWithConstraints
	if len(c) != 1 || c[0].Constraints.Names[0] != "sandpiper.example" ||
		c[0].Constraints.Networks[0] != "192.0.2.0/24" {
		t.Errorf("%+v", c)
	}
	same("Chromium", [][]byte{decode(policy.CACertificates[0]), decode(c[0].Certificate)})
	list = nil
	d, in := xml.NewDecoder(bytes.NewReader(file("macos", "roots.mobileconfig"))), false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		switch x := token.(type) {
		case xml.StartElement:
			in = x.Name.Local == "data"
		case xml.CharData:
			if in {
				list = append(list, decode(string(x)))
				in = false
			}
		}
	}
	same("profile", list)
	same("registry", registryBlobs(t, file("windows", "root-policy.reg")))
	list = nil
	layer := tar.NewReader(bytes.NewReader(file("container", "roots.tar")))
	for {
		h, err := layer.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(layer)
		if err != nil {
			t.Fatal(err)
		}
		if strings.HasSuffix(h.Name, ".crt") && strings.HasPrefix(h.Name, "usr/local/share/ca-certificates/") {
			list = append(list, pems(data, "")...)
		}
	}
	same("layer", list)
}

// registryBlobs reads a file that is imported into a registry: each key is the certificate's
// thumbprint, each value one property of number 32.
func registryBlobs(t *testing.T, data []byte) (out [][]byte) {
	t.Helper()
	var units []uint16
	for i := 2; i+1 < len(data); i += 2 {
		units = append(units, binary.LittleEndian.Uint16(data[i:]))
	}
	key := ""
	for _, line := range strings.Split(string(utf16.Decode(units)), "\r\n") {
		if k, ok := strings.CutPrefix(line, "["); ok {
			key = strings.TrimSuffix(k[strings.LastIndex(k, "\\")+1:], "]")
		}
		text, ok := strings.CutPrefix(line, "\"Blob\"=hex:")
		if !ok {
			continue
		}
		blob, err := hex.DecodeString(strings.ReplaceAll(text, ",", ""))
		if err != nil || len(blob) < 12 || binary.LittleEndian.Uint32(blob) != 32 ||
			int(binary.LittleEndian.Uint32(blob[8:])) != len(blob)-12 {
			t.Fatalf("%v %q", err, text)
		}
		if want := fmt.Sprintf("%X", sha1.Sum(blob[12:])); key != want {
			t.Errorf("the key is %s, the thumbprint %s", key, want)
		}
		out = append(out, blob[12:])
	}
	return out
}

// Anchors for another purpose are left out, and said; a set that leaves none is refused.
func TestPurposesAreKept(t *testing.T) {
	j := hostile(t)
	j.Set.Anchors[0].Purposes = []trust.Purpose{trust.Code}
	p, err := Parse("debian", []byte(Starter("debian")))
	if err != nil {
		t.Fatal(err)
	}
	files, notes, err := p.Pack(j)
	if err != nil || len(files) != 4 || !strings.Contains(strings.Join(notes, " "), "is left out") {
		t.Errorf("%d files, %v, %v", len(files), notes, err)
	}
	j.Set.Anchors = j.Set.Anchors[:1]
	if _, _, err := p.Pack(j); err == nil || !strings.Contains(err.Error(), "no anchor for debian") {
		t.Error(err)
	}
}

func TestPlatformMistakesAreTold(t *testing.T) {
	good := "title = \"t\"\n[[file]]\nname = \"roots.pem\"\nform = \"pem\"\n"
	if _, err := Parse("t", []byte(good)); err != nil {
		t.Fatal(err)
	}
	for old, bad := range map[string]string{`form = "pem"`: `form = "jks"`, `"roots.pem"`: `"../roots.pem"`,
		`name = "roots.pem"`: `name = "{file}.pem"`, `title = "t"`: `titel = "t"`,
		"roots.pem\"\nform": "SHA256SUMS\"\nform"} {
		t.Run(old, func(t *testing.T) {
			if _, err := Parse("t", []byte(strings.Replace(good, old, bad, 1))); err == nil {
				t.Errorf("%s was taken", bad)
			}
		})
	}
}
