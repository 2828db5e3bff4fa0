package machine

import (
	"path/filepath"
	"runtime"
)

// places are where a system, its runtimes and its browsers keep roots.
type places struct {
	systems  []systemPlace
	bundles  string   // the folder of the bundle files that kits wrote
	java     []string // patterns
	firefox  string   // the policy
	chromium []string // folders of policies
	profiles []profilePlace
}

// systemPlace is a system's own store: the bundle that programs read, and the directory that roots are put into.
type systemPlace struct{ bundle, dir, kit string }

// profilePlace is a pattern of databases of a browser.
type profilePlace struct{ pattern, name, kit string }

// known are the places of a machine. One that is mounted is taken for a Unix system.
func (m Machine) known() places {
	if runtime.GOOS == "windows" && m.Root == "/" {
		return m.onWindows()
	}
	p := places{bundles: m.at("/etc/ssl/private-roots"), firefox: m.at("/etc/firefox/policies/policies.json")}
	for _, s := range []systemPlace{
		{"/etc/ssl/certs/ca-certificates.crt", "/usr/local/share/ca-certificates", "debian"},
		{"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", "/etc/pki/ca-trust/source/anchors", "redhat"},
		{"/var/lib/ca-certificates/ca-bundle.pem", "/etc/pki/trust/anchors", "suse"},
		{"/etc/ca-certificates/extracted/tls-ca-bundle.pem", "/etc/ca-certificates/trust-source/anchors", "arch"},
	} {
		p.systems = append(p.systems, systemPlace{m.at(s.bundle), m.at(s.dir), s.kit})
	}
	for _, j := range []string{"/etc/ssl/certs/java/cacerts", "/etc/pki/java/cacerts",
		"/usr/lib/jvm/*/lib/security/cacerts"} {
		p.java = append(p.java, m.at(j))
	}
	for _, c := range []string{"/etc/chromium/policies/managed", "/etc/opt/chrome/policies/managed"} {
		p.chromium = append(p.chromium, m.at(c))
	}
	home := m.Env("HOME")
	if home == "" {
		return p
	}
	for _, b := range []profilePlace{
		{".mozilla/firefox/*/cert9.db", "Firefox profile", "firefox"},
		{".config/mozilla/firefox/*/cert9.db", "Firefox profile", "firefox"},
		{"snap/firefox/common/.mozilla/firefox/*/cert9.db", "Firefox profile", "firefox"},
		{".pki/nssdb/cert9.db", "Chromium profile", "chromium"},
		{".local/share/pki/nssdb/cert9.db", "Chromium profile", "chromium"},
	} {
		b.pattern = filepath.Join(home, b.pattern)
		p.profiles = append(p.profiles, b)
	}
	return p
}

// onWindows are the places of a Windows machine. The system's own stores are no files, and Chromium reads them.
func (m Machine) onWindows() (p places) {
	for _, programs := range []string{m.Env("ProgramFiles"), m.Env("ProgramFiles(x86)")} {
		if programs == "" {
			continue
		}
		for _, maker := range []string{"Java", "Eclipse Adoptium", "Microsoft", "Zulu", "Amazon Corretto"} {
			p.java = append(p.java, filepath.Join(programs, maker, `*\lib\security\cacerts`),
				filepath.Join(programs, maker, `*\jre\lib\security\cacerts`))
		}
		if policy := filepath.Join(programs, `Mozilla Firefox\distribution\policies.json`); p.firefox == "" ||
			there(policy) {
			p.firefox = policy
		}
	}
	if data := m.Env("APPDATA"); data != "" {
		p.profiles = append(p.profiles, profilePlace{filepath.Join(data, `Mozilla\Firefox\Profiles\*\cert9.db`),
			"Firefox profile", "firefox"})
	}
	if data := m.Env("ProgramData"); data != "" {
		p.bundles = filepath.Join(data, "private-roots")
	}
	return p
}
