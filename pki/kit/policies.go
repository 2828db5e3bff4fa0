package kit

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"ironseal/pki/san"
)

// Policies are JSON files that someone may have written already. Ours goes into theirs: what
// is there stays, number for number, and a file that cannot be parsed is left alone.

// policyForms are the forms that can take a file in that is there.
var policyForms = []string{"firefox", "chromium"}

// TakesPolicy reports whether a policy file that is there can be taken into the kit.
func (p Platform) TakesPolicy() bool {
	return slices.ContainsFunc(p.Files, func(f FileRule) bool { return slices.Contains(policyForms, f.Form) })
}

// present reads the policy that is there already.
func (j Job) present() (map[string]any, error) {
	if j.Present == nil {
		return map[string]any{}, nil
	}
	d := json.NewDecoder(bytes.NewReader(bytes.TrimPrefix(j.Present, []byte("\xef\xbb\xbf"))))
	d.UseNumber()
	var out map[string]any
	if err := d.Decode(&out); err != nil {
		return nil, fmt.Errorf("the policy that is there cannot be parsed, and stays as it is: %w", err)
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) || out == nil {
		return nil, errors.New("the policy that is there is not one JSON object, and stays as it is")
	}
	return out, nil
}

// inner finds an object within another, or makes it.
func inner(in map[string]any, name string) (map[string]any, error) {
	switch x := in[name].(type) {
	case nil:
		made := map[string]any{}
		in[name] = made
		return made, nil
	case map[string]any:
		return x, nil
	}
	return nil, fmt.Errorf("the policy that is there has a %s that is no object, and stays as it is", name)
}

// grow adds values to a list of a policy, each once.
func grow(in map[string]any, name string, values []any) error {
	if len(values) == 0 {
		return nil
	}
	list, ok := in[name].([]any)
	if in[name] != nil && !ok {
		return fmt.Errorf("the policy that is there has a %s that is no list, and stays as it is", name)
	}
	for _, v := range values {
		if !slices.ContainsFunc(list, func(x any) bool { return sameJSON(x, v) }) {
			list = append(list, v)
		}
	}
	in[name] = list
	return nil
}

func sameJSON(a, b any) bool {
	x, err := json.Marshal(a)
	y, err2 := json.Marshal(b)
	return err == nil && err2 == nil && bytes.Equal(x, y)
}

func policyBytes(policy map[string]any) ([]byte, bool, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(policy)
	return b.Bytes(), false, err
}

// firefox is an enterprise policy: absolute paths of DER files.
func firefox(p Platform, j Job, items []Item) ([]byte, bool, error) {
	policy, err := j.present()
	if err != nil {
		return nil, false, err
	}
	policies, err := inner(policy, "policies")
	if err != nil {
		return nil, false, err
	}
	certificates, err := inner(policies, "Certificates")
	if err != nil {
		return nil, false, err
	}
	var paths []any
	for _, i := range items {
		paths = append(paths, p.Values["dir"]+"/"+i.File+".der")
	}
	if err := grow(certificates, "Install", paths); err != nil {
		return nil, false, err
	}
	return policyBytes(policy)
}

// installing are the forms that can only install: a kit that takes anchors out has none of them.
var installing = []string{"firefox", "chromium", "configmap", "ansible", "cloud-init", "layer", "build-lines",
	"mobileconfig", "registry"}

// skips says that a kit does not have this file.
func (j Job) skips(rule FileRule) bool { return j.Leaving && slices.Contains(installing, rule.Form) }

// firefoxOut is a configuration that Firefox runs when it starts. It takes the anchors out of the profile,
// where Firefox keeps what a policy has once installed. Only the extended support release runs it.
func firefoxOut(_ Platform, j Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "// Takes roots of %s out of each profile that starts. Firefox skips this first line.\n", j.Mark)
	b.WriteString("try {\n  const gone = new Set([\n")
	for _, i := range items {
		fmt.Fprintf(&b, "    \"%x\",\n", i.Certificate.SHA256())
	}
	b.WriteString("  ]);\n  const db = Components.classes[\"@mozilla.org/security/x509certdb;1\"]\n    " +
		".getService(Components.interfaces.nsIX509CertDB);\n  for (const c of db.getCerts()) {\n    if " +
		"(gone.has(c.sha256Fingerprint.replaceAll(\":\", \"\").toLowerCase())) {\n      db.deleteCertificate(c);\n   " +
		" }\n  }\n} catch (e) {\n  displayError(\"take-out.cfg\", e);\n}\n")
	return b.Bytes(), false, nil
}

// firefoxRead has Firefox read the configuration: its name is that of the file in firefox.toml.
func firefoxRead(_ Platform, _ Job, _ []Item) ([]byte, bool, error) {
	return []byte("pref(\"general.config.filename\", \"take-out.cfg\");\npref(\"general.config.obscure_value\", " +
		"0);\npref(\"general.config.sandbox_enabled\", false);\n"), false, nil
}

// chromium is a managed policy, which knows limits on names.
func chromium(_ Platform, j Job, items []Item) ([]byte, bool, error) {
	policy, err := j.present()
	if err != nil {
		return nil, false, err
	}
	var free, limited []any
	for _, i := range items {
		der := base64.StdEncoding.EncodeToString(i.Certificate.Raw)
		if len(i.Permitted) == 0 {
			free = append(free, der)
			continue
		}
		names, networks := []string{}, []string{}
		for _, c := range i.Permitted {
			kind, value, _ := strings.Cut(c.String(), ":")
			switch san.Kind(kind) {
			case san.DNS:
				names = append(names, value)
			case san.IP:
				networks = append(networks, value)
			}
		}
		limited = append(limited, map[string]any{"certificate": der, "constraints": map[string]any{
			"permitted_dns_names": names, "permitted_cidrs": networks}})
	}
	if err := errors.Join(grow(policy, "CACertificates", free),
		grow(policy, "CACertificatesWithConstraints", limited),
		// of two files with the same list one would count otherwise: measured with the kits of two sets
		grow(policy, "PolicyListMultipleSourceMergeList", []any{"CACertificates",
			"CACertificatesWithConstraints"})); err != nil {
		return nil, false, err
	}
	return policyBytes(policy)
}
