//go:build linux

package peers

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
)

// private is the beginning of a script that has copies of the system's store for itself.
const private = `set -eu
cp -a /etc/ssl %[1]s/ssl && mount --bind %[1]s/ssl /etc/ssl
mkdir -p /usr/local/share/ca-certificates
cp -a /usr/local/share/ca-certificates %[1]s/local && mount --bind %[1]s/local /usr/local/share/ca-certificates
cp -a /usr/share/ca-certificates %[1]s/shared && mount --bind %[1]s/shared /usr/share/ca-certificates
cp -a /etc/ca-certificates.conf %[1]s/conf && mount --bind %[1]s/conf /etc/ca-certificates.conf
unset SSL_CERT_FILE SSL_CERT_DIR CURL_CA_BUNDLE
export HOME=%[1]s
/usr/sbin/update-ca-certificates >/dev/null 2>&1
cp /etc/ssl/certs/ca-certificates.crt %[1]s/before
trusted() { %[2]s -fsS --noproxy '*' https://localhost:%[3]d/ >/dev/null 2>&1 && echo yes || echo no; }
same() { cmp -s %[1]s/before /etc/ssl/certs/ca-certificates.crt && echo yes || echo no; }
`

// The tasks for fleets are played for real: the first play installs, the second changes nothing, and the tasks
// that take the roots out leave the store as it was.
func TestTheTasksForFleetsAreRunForReal(t *testing.T) {
	long(t)
	play := peer(t, "ansible-playbook")
	peer(t, "update-ca-certificates", "/usr/sbin/update-ca-certificates")
	curl, unshare := peer(t, "curl"), namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	port := nginx(t, e)
	e.do("trust", "kit", "--for", "ansible", "--out", "../kits")
	for _, name := range []string{"roots", "roots-out"} {
		write(t, e.path(name+".play.yml"), fmt.Sprintf("- hosts: localhost\n  gather_facts: false\n  tasks:\n    - "+
			"import_tasks: %s/%s.yml\n", e.path("kits/own.ansible"), name))
	}
	script := write(t, e.path("try.sh"), fmt.Sprintf(private+`export ANSIBLE_LOCALHOST_WARNING=False ANSIBLE_NOCOLOR=1
run() { %[4]s -c local -i localhost, %[1]s/$1.play.yml 2>&1 | grep -o 'changed=[0-9]*\|failed=[0-9]*' | tr '\n' ' '; }
echo "before $(trusted)"
echo "install $(run roots)$(trusted)"
echo "again $(run roots)$(trusted)"
echo "out $(run roots-out)$(trusted) $(same)"
echo "out again $(run roots-out)"
`, e.dir, curl, port, play))
	out, err := exec.Command(unshare, "-m", "sh", script).CombinedOutput()
	if want := "before no\ninstall changed=2 failed=0 yes\nagain changed=0 failed=0 yes\nout changed=2 failed=0 no " +
		"yes\n" +
		"out again changed=0 failed=0 \n"; err != nil || string(out) != want {
		t.Errorf("%v\n%s", err, out)
	}
}

// The user data for new machines fits the schema of the program that reads it, and the module of that program
// installs the roots.
func TestTheUserDataForNewMachinesIsRunForReal(t *testing.T) {
	long(t)
	init := peer(t, "cloud-init")
	peer(t, "update-ca-certificates", "/usr/sbin/update-ca-certificates")
	python, curl, unshare := peer(t, "/usr/bin/python3"), peer(t, "curl"), namespaces(t)
	e := newEstate(t, "ecdsa-p256")
	e.site("ecdsa-p256")
	port := nginx(t, e)
	e.do("trust", "kit", "--for", "cloud-init", "--out", "../kits")
	data := e.path("kits/own.cloud-init/user-data.yaml")
	if out, err := exec.Command(init, "schema", "-c", data).CombinedOutput(); err != nil ||
		!strings.Contains(string(out), "alid") {
		t.Errorf("the schema: %v %s", err, out)
	}
	write(t, e.path("module.py"), `import logging, sys, types, yaml
from cloudinit.config import cc_ca_certs
cloud = types.SimpleNamespace(distro=types.SimpleNamespace(name="debian"))
given = [yaml.safe_load(open(sys.argv[1])), cloud, logging.getLogger(), []]
if cc_ca_certs.handle.__code__.co_argcount == 4:
    del given[2]
cc_ca_certs.handle("ca_certs", *given)
`)
	script := write(t, e.path("try.sh"), fmt.Sprintf(private+`echo "before $(trusted)"
%[4]s %[1]s/module.py %[5]s >/dev/null 2>&1
echo "then $(trusted)"
echo "more $(($(grep -c BEGIN /etc/ssl/certs/ca-certificates.crt) - $(grep -c BEGIN %[1]s/before)))"
`, e.dir, curl, port, python, data))
	out, err := exec.Command(unshare, "-m", "sh", script).CombinedOutput()
	if err != nil || string(out) != "before no\nthen yes\nmore 1\n" {
		t.Errorf("%v\n%s", err, out)
	}
}
