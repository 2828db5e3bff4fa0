package kit

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"ironseal/pki/bundle"
	"ironseal/pki/label"
	"ironseal/pki/pkcs"
)

// form makes a file of a kit from anchors; run says that it is a script.
type form func(p Platform, j Job, items []Item) (data []byte, run bool, err error)

var forms = sync.OnceValue(func() map[string]form {
	return map[string]form{
		"pem": func(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
			var b bytes.Buffer
			for _, i := range items {
				b.Write(bundle.PEM(bundle.Certificate, i.Certificate.Raw))
			}
			return b.Bytes(), false, nil
		},
		"der": func(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
			if len(items) > 1 {
				return nil, false, errors.New("a DER file holds one certificate: say each = true")
			}
			return items[0].Certificate.Raw, false, nil
		},
		"p7b": func(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
			var list [][]byte
			for _, i := range items {
				list = append(list, i.Certificate.Raw)
			}
			data, err := pkcs.WriteSignedData(list)
			return data, false, err
		},
		"p12":           trustStore,
		"fingerprints":  fingerprints,
		"store-script":  storeScript,
		"bundle-script": bundleScript,
		"java-script":   javaScript,
		"power-script":  powerScript,
		"keychain":      keychainScript,
		"registry":      registry,
		"build-lines": func(p Platform, _ Job, _ []Item) ([]byte, bool, error) {
			return []byte("ADD roots.tar /\nRUN " + p.Values["update"] + "\n"), false, nil
		},
		"layer":        layer,
		"configmap":    configMap,
		"ansible":      ansible,
		"ansible-out":  ansibleOut,
		"cloud-init":   cloudInit,
		"firefox":      firefox,
		"firefox-out":  firefoxOut,
		"firefox-read": firefoxRead,
		"chromium":     chromium,
		"mobileconfig": mobileConfig,
	}
})

func formNames() []string { return slices.Sorted(maps.Keys(forms())) }

// trustStore is a PKCS#12 trust store without a password: roots are no secret.
func trustStore(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
	var entries []pkcs.StoreEntry
	for _, i := range items {
		entries = append(entries, pkcs.StoreEntry{Certificate: i.Certificate.Raw, Name: i.File, Anchor: true})
	}
	data, err := pkcs.WriteStore(entries, nil, pkcs.Modern, nil)
	return data, false, err
}

// fingerprints is a sheet to be compared by eye or read out.
func fingerprints(_ Platform, j Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	for _, i := range items {
		sum, old := i.Certificate.SHA256(), i.Certificate.SHA1()
		fmt.Fprintf(&b,
			"%s\n  file        %s (%s)\n  until       %s\n  check code  %s\n  SHA-256     %s\n  SHA-1       %s "+
				"(for looking up only)\n\n", shown(i.Certificate.Title()), i.File, i.Short,
			i.Certificate.NotAfter.Format("2006-01-02"), label.CheckCode(i.Certificate.Raw), label.Colons(sum[:]),
			label.Colons(old[:]))
	}
	return b.Bytes(), false, nil
}

func indented(pem []byte, by string) string {
	return by + strings.ReplaceAll(strings.TrimRight(string(pem), "\n"), "\n", "\n"+by) + "\n"
}

// configMap is named for the organisation and the set, so that the maps of two sets are beside each
// other.
func configMap(_ Platform, j Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "apiVersion: v1\nkind: ConfigMap\nmetadata:\n  name: %s\ndata:\n", kubeName(j.Mark+"-"+j.Set.Name+
		"-roots"))
	var all []byte
	for _, i := range items {
		pem := bundle.PEM(bundle.Certificate, i.Certificate.Raw)
		all = append(all, pem...)
		fmt.Fprintf(&b, "  %s.pem: |\n%s", i.File, indented(pem, "    "))
	}
	fmt.Fprintf(&b, "  ca-bundle.pem: |\n%s", indented(all, "    "))
	return b.Bytes(), false, nil
}

// kubeName keeps the letters that names of objects may have (RFC 1123 section 2.1).
func kubeName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, strings.ToLower(s))
	return strings.Trim(s[:min(len(s), 253)], "-")
}

func ansible(p Platform, j Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b,
		"# Tasks that install the roots of %s on hosts like %s. Include them in a play that becomes root.\n---\n",
		j.Mark, p.Values["like"])
	for _, i := range items {
		fmt.Fprintf(&b,
			"- name: root %[1]s\n  ansible.builtin.copy:\n    dest: %[2]s/%[1]s.%[3]s\n    mode: \"0644\"\n    "+
				"content: |\n%[4]s  register: root_%[5]s\n", i.File, p.Values["store"], p.Values["ending"],
			indented(bundle.PEM(bundle.Certificate, i.Certificate.Raw), "      "), i.Short)
	}
	var when []string
	for _, i := range items {
		when = append(when, "root_"+i.Short+" is changed")
	}
	fmt.Fprintf(&b, "- name: take the roots into use\n  ansible.builtin.command: %s\n  when: %s\n", p.Values["update"],
		strings.Join(when, " or "))
	return b.Bytes(), false, nil
}

// ansibleOut are the tasks that take the same roots out.
func ansibleOut(p Platform, j Job, items []Item) ([]byte, bool, error) {
	update := p.Values["update-after-removal"]
	if update == "" {
		update = p.Values["update"]
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# Tasks that take the roots of %s out of hosts like %s. Include them in a play that becomes "+
		"root.\n---\n", j.Mark, p.Values["like"])
	var when []string
	for _, i := range items {
		fmt.Fprintf(&b, "- name: no root %[1]s\n  ansible.builtin.file:\n    path: %[2]s/%[1]s.%[3]s\n    state: "+
			"absent\n  "+
			"register: root_%[4]s\n", i.File, p.Values["store"], p.Values["ending"], i.Short)
		when = append(when, "root_"+i.Short+" is changed")
	}
	fmt.Fprintf(&b, "- name: take the roots out of use\n  ansible.builtin.command: %s\n  when: %s\n", update,
		strings.Join(when, " or "))
	return b.Bytes(), false, nil
}

func cloudInit(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	b.WriteString("#cloud-config\nca_certs:\n  trusted:\n")
	for _, i := range items {
		fmt.Fprintf(&b, "    - |\n%s", indented(bundle.PEM(bundle.Certificate, i.Certificate.Raw), "      "))
	}
	return b.Bytes(), false, nil
}

// mobileConfig is a configuration profile; its identifiers come from the set and the fingerprints,
// so that the same roots of a set are the same profile, and two sets are two profiles.
func mobileConfig(_ Platform, j Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	b.WriteString(xml.Header + `<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" ` +
		`"http://www.apple.com/DTDs/PropertyList-1.0.dtd">` +
		"\n<plist version=\"1.0\"><dict>\n<key>PayloadContent</key><array>\n")
	all := sha256.New()
	fmt.Fprintf(all, "%s\n", j.Set.Name) // the same root in two sets is in two profiles
	for _, i := range items {
		sum := i.Certificate.SHA256()
		all.Write(sum[:])
		sum = sha256.Sum256(append([]byte(j.Set.Name+"\n"), sum[:]...))
		fmt.Fprintf(&b, "<dict>\n<key>PayloadType</key><string>com.apple.security.root</string>\n"+
			"<key>PayloadVersion</key><integer>1</integer>\n<key>PayloadIdentifier</key><string>%[1]s</string>\n"+
			"<key>PayloadUUID</key><string>%[2]s</string>\n<key>PayloadDisplayName</key><string>%[1]s</string>\n"+
			"<key>PayloadContent</key><data>%[3]s</data>\n</dict>\n", i.File, uuid(sum[:]),
			base64.StdEncoding.EncodeToString(i.Certificate.Raw))
	}
	fmt.Fprintf(&b, "</array>\n<key>PayloadType</key><string>Configuration</string>\n<key>PayloadVersion</key>"+
		"<integer>1</integer>\n<key>PayloadIdentifier</key><string>%[1]s-%[3]s-roots</string>\n<key>PayloadUUID</key>"+
		"<string>%[2]s</string>\n<key>PayloadDisplayName</key><string>Roots of %[1]s "+
		"(%[3]s)</string>\n</dict></plist>\n",
		j.Mark, uuid(all.Sum(nil)), j.Set.Name)
	return b.Bytes(), false, nil
}

// uuid makes a stable identifier of a hash (RFC 9562 section 5.8).
func uuid(sum []byte) string {
	u := slices.Clone(sum[:16])
	u[6], u[8] = u[6]&0x0f|0x80, u[8]&0x3f|0x80
	return strings.ToUpper(fmt.Sprintf("%x-%x-%x-%x-%x", u[:4], u[4:6], u[6:8], u[8:10], u[10:]))
}
