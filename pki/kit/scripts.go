package kit

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironseal/pki/trust"
)

// The words of scripts are ours, and what is put into them is safe: the mark and the names
// of sets and files have letters, digits, hyphens and underscores; fingerprints are hex; and
// what a platform says of itself is the administrator's own.

// scriptForms are the forms of scripts. They are made last: each holds the hashes of the files that
// it reads, and compares them before it touches anything.
var scriptForms = []string{"store-script", "bundle-script", "java-script", "power-script", "keychain"}

// rootsFile is the file that a bundle's script reads.
const rootsFile = "roots.pem"

// script fills in a script of the program.
func script(file string, p Platform, j Job, items []Item, values map[string]string) ([]byte, bool, error) {
	pairs := []string{"@MARK@", j.Mark, "@SET@", j.Set.Name, "@PLATFORM@", p.Name}
	var list []string
	beside := map[string][32]byte{} // the files that the script reads
	for _, i := range items {
		name := i.File
		if ending := p.Values["ending"]; ending != "" {
			name += "." + ending
			beside[name] = j.packed[name]
		}
		list = append(list, fmt.Sprintf("%s %x", name, i.Certificate.SHA256()))
	}
	if file == "bundle.sh" {
		beside = map[string][32]byte{rootsFile: j.packed[rootsFile]}
	}
	var packed []string
	for _, name := range slices.Sorted(maps.Keys(beside)) {
		if beside[name] == ([32]byte{}) {
			return nil, false, fmt.Errorf("the script reads %s, which no rule makes: add a file of that name", name)
		}
		packed = append(packed, fmt.Sprintf("%x %s", beside[name], name))
	}
	pairs = append(pairs, "@ANCHORS@", strings.Join(list, "\n"), "@PACKED@", strings.Join(packed, "\n"))
	for _, k := range slices.Sorted(maps.Keys(values)) {
		pairs = append(pairs, "@"+k+"@", strings.TrimSpace(values[k]))
	}
	text := map[string]string{}
	for _, name := range []string{file, "begin.sh", "each.sh", "end.sh"} {
		data, err := texts.ReadFile("text/" + name)
		if err != nil {
			return nil, false, err
		}
		text[name] = strings.TrimRight(string(data), "\n")
	}
	whole := strings.NewReplacer("@BEGIN@", text["begin.sh"], "@EACH@", text["each.sh"],
		"@END@", text["end.sh"]).Replace(text[file])
	return []byte(strings.NewReplacer(pairs...).Replace(whole) + "\n"), true, nil
}

// storeScript installs into a system's store, removes and checks.
func storeScript(p Platform, j Job, items []Item) ([]byte, bool, error) {
	after := p.Values["update-after-removal"]
	if after == "" {
		after = p.Values["update"]
	}
	return script("store.sh", p, j, items, map[string]string{"STORE": p.Values["store"],
		"BUNDLE": p.Values["bundle"], "UPDATE": p.Values["update"], "UPDATE_AFTER": after})
}

// systemBundles are where systems keep the public roots in one file.
const systemBundles = "/etc/ssl/certs/ca-certificates.crt /etc/pki/tls/certs/ca-bundle.crt /etc/ssl/ca-bundle.pem " +
	"/etc/ssl/cert.pem"

// bundleScript writes a bundle that programs find by variables: beside the public
// roots where the program would lose them otherwise.
func bundleScript(p Platform, j Job, items []Item) ([]byte, bool, error) {
	get := func(key, otherwise string) string {
		if v := p.Values[key]; v != "" {
			return v
		}
		return otherwise
	}
	dir := get("dir", "/etc/ssl/private-roots")
	names := strings.Fields(p.Values["variables"])
	if len(names) == 0 {
		return nil, false, fmt.Errorf("values: variables is missing: say which ones the program reads")
	}
	lines := []string{fmt.Sprintf("# Roots of %s for %s: written by trust.sh, and taken away by it.", j.Mark, p.Name)}
	for _, name := range names {
		lines = append(lines, fmt.Sprintf(`export %s="%s/%s_all.%s.pem"`, name, dir, j.Mark, p.Name))
	}
	public := ""
	if p.Values["public-roots"] == "replaced" {
		public = "yes"
	}
	return script("bundle.sh", p, j, items, map[string]string{"DIR": dir, "PUBLIC": public,
		"PROFILES": get("profiles", "/etc/profile.d"), "SYSTEM": get("system", systemBundles),
		"VARIABLES": strings.Join(names, ", "), "LINES": strings.Join(lines, "\n")})
}

// javaScript works on a Java runtime's own store with the runtime's classes alone.
func javaScript(p Platform, j Job, items []Item) ([]byte, bool, error) {
	var list []string
	for _, i := range items {
		list = append(list, fmt.Sprintf(`        "%s.%s %x",`, i.File, p.Values["ending"], i.Certificate.SHA256()))
	}
	data, _, err := script("TrustStore.java", p, j, items, map[string]string{"JAVA_ANCHORS": strings.Join(list, "\n")})
	return data, false, err
}

// keychainScript works on the system's keychain of macOS. Where a root is not trusted for
// everything, the settings say for what.
func keychainScript(p Platform, j Job, items []Item) ([]byte, bool, error) {
	policies := map[trust.Purpose]string{trust.Servers: "ssl", trust.Clients: "ssl", trust.Mail: "smime",
		trust.Code: "codeSign"}
	var list []string
	for _, i := range items {
		line := fmt.Sprintf("%s.%s %x", i.File, p.Values["ending"], i.Certificate.SHA256())
		if len(i.Purposes) < len(trust.Purposes()) {
			var uses []string
			for _, u := range i.Purposes {
				uses = append(uses, policies[u])
			}
			line += " " + strings.Join(slices.Compact(uses), " ")
		}
		list = append(list, line)
	}
	return script("keychain.sh", p, j, items, map[string]string{"STORE": p.Values["store"],
		"STATE": p.Values["state"], "KEYCHAIN_ANCHORS": strings.Join(list, "\n")})
}

// powerScript puts roots into the machine's store of Windows, removes and checks.
func powerScript(p Platform, j Job, items []Item) ([]byte, bool, error) {
	return script("store.ps1", p, j, items, nil)
}
