package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/probe"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/request"
	"ironseal/pki/san"
	"ironseal/pki/sheet"
	"ironseal/pki/trust"
)

// quay is everything that stands on the quay while the story is played.
type quay struct {
	Stage
	devices   []*device
	listeners []net.Listener
}

// PlayDevices plays the story of eight devices, first all wrong, then corrected; and of a
// change of roots over them, with a live client through every stage.
func PlayDevices(ctx context.Context, s Stage) error {
	q, done, err := s.quay()
	if err != nil {
		return err
	}
	defer done()
	if err := s.play(q.found()); err != nil {
		return err
	}
	if err := s.play(q.putRight()); err != nil {
		return err
	}
	return q.changeRoots(ctx)
}

// quay sets up a stage with the devices of the quay; done lets them end.
func (s Stage) quay() (q *quay, done func(), err error) {
	if err := s.setUp(); err != nil {
		return nil, nil, err
	}
	q = &quay{Stage: s}
	done = func() {
		for _, l := range q.listeners {
			l.Close()
		}
	}
	if err := q.open(); err != nil {
		done()
		return nil, nil, err
	}
	return q, done, nil
}

// open lets the devices begin, and writes what is known of them into a table.
func (q *quay) open() error {
	today := time.Now
	yearsBack := func() time.Time { return time.Now().AddDate(-7, 0, 0) }
	q.devices = []*device{
		{name: "gangway-gate", host: "gangway-gate.ternbay.example", receiver: "gateway-pair", template: "mutual-peer",
			bothUsages: true, clock: today},
		{name: "pier-cameras", host: "pier-cameras.ternbay.example", receiver: "appliance-pem", template: "web-server",
			oneFile: true, clock: today},
		{name: "crane-control", host: "crane-control.ternbay.example", receiver: "nginx", template: "web-server",
			clock: today},
		{name: "timetable", host: "timetable.ternbay.example", receiver: "nginx", template: "web-server", clock: today},
		{name: "tide-board", host: "tide-board.ternbay.example", asked: "tide-board", receiver: "nginx",
			template: "web-server",
			clock:    today},
		{name: "ticket-office", host: "ticket-office.ternbay.example", receiver: "nginx", template: "web-server",
			clock: today},
		{name: "fog-horn", host: "fog-horn.ternbay.example", receiver: "nginx", template: "web-server",
			clock: yearsBack},
		{name: "mail", host: "mail.ternbay.example", over: "smtp", receiver: "mail-server", template: "mail-server",
			clock: today},
	}
	if err := errors.Join(disk.Dir("devices"), disk.Dir("requests")); err != nil {
		return err
	}
	for _, d := range q.devices {
		l, err := d.begin("devices")
		if err != nil {
			return err
		}
		q.listeners = append(q.listeners, l)
		der, err := d.request()
		if err != nil {
			return err
		}
		if err := (disk.Disk{}).New(filepath.Join("requests", d.name+".pem"), bundle.PEM(bundle.Request, der),
			0o644); err != nil {
			return err
		}
		if d.folder, err = filepath.Abs(d.folder); err != nil {
			return err
		}
	}
	if err := q.earlier(); err != nil {
		return err
	}
	return disk.Disk{}.New("parties.csv", q.table(), 0o644)
}

// earlier lets two devices serve what an authority signed that is no more: the one without its
// intermediate, the other past its end.
func (q *quay) earlier() error {
	root, err := entitled(nil, "Tern Bay Ferries", "Tern Bay Former Root", 9)
	if err != nil {
		return err
	}
	mid, err := entitled(&root, "Tern Bay Ferries", "Tern Bay Former Services", 4)
	if err != nil {
		return err
	}
	for name, years := range map[string]int{"timetable": 1, "ticket-office": -1} {
		for _, d := range q.devices {
			if d.name != name {
				continue
			}
			c, err := entitledFor(&mid, d.key, "Tern Bay Ferries", d.host, years, d.host)
			if err != nil {
				return err
			}
			d.first = [][]byte{c.Raw}
		}
	}
	return nil
}

// endpoint is how people reach a device.
func (d *device) endpoint() string {
	name, at := d.host, d.addr
	if d.asked != "" {
		name = d.asked
	}
	if d.over != "" {
		at = d.over + "://" + at
	}
	return name + "@" + at
}

func (d *device) request() ([]byte, error) {
	subject, err := dn.New(dn.Pair{Type: "O", Value: "Tern Bay Ferries"}, dn.Pair{Type: "CN", Value: d.host})
	if err != nil {
		return nil, err
	}
	names, err := ext.NamesExtension([]san.Name{san.Found(san.DNS, d.host)}, false)
	if err != nil {
		return nil, err
	}
	return request.Draft(subject, ext.Set{names}, d.key, rand.Reader)
}

// table is the parties as a spreadsheet has them: the devices, and two displays that look at
// them.
func (q *quay) table() []byte {
	var rows [][]string
	for _, d := range q.devices {
		rows = append(rows, trust.Party{Name: d.name, Endpoints: []string{d.endpoint()}, Receiver: d.receiver,
			Template: d.template, Owner: "harbour technicians"}.Row())
	}
	for _, name := range []string{"bridge-display", "crew-tablet"} {
		rows = append(rows, trust.Party{Name: name, Platforms: []string{"bundle"}, Sets: []string{trust.Own},
			Owner: "watch officers"}.Row())
	}
	return sheet.Write(trust.PartyColumns, rows)
}

// found is the beginning: everything is wrong.
func (q *quay) found() []scene {
	return []scene{
		{say: "Eight devices on the quay serve certificates that they made themselves, or that an\nauthority signed " +
			"that is gone. First, make an authority, with quick keys.",
			typed: []string{`estate create harbour --organisation "Tern Bay Ferries" --country NO`},
			then:  func() error { return os.Chdir("harbour") }},
		{typed: []string{"authority create root --key ecdsa-p256 --yes",
			"authority create services --under root --key " +
				"ecdsa-p256 --yes"}},
		{say: "The technicians keep a table of the devices. Import it as it is.",
			typed: []string{"party import ../parties.csv", "party list"}},
		{say: "What do clients see? The devices are live: small stand-ins on this machine.",
			typed: []string{"probe --all --html ../board-before.html"}, mayFail: true},
	}
}

// putRight signs, hands over, and looks again.
func (q *quay) putRight() []scene {
	out := []scene{
		{say: "Each device sent a request. Its party record names its template: the gateway is both\nserver and " +
			"client, the mail host is a mail server, the rest are web servers.",
			typed: []string{"request receive ../requests"}},
	}
	for i, d := range q.ordered() {
		s := scene{typed: []string{fmt.Sprintf("sign R%d --party %s --yes", i+1, d.name),
			fmt.Sprintf("certificate handover R%d --party %s --out ../devices/%s", i+1, d.name, d.name)}}
		out = append(out, s)
	}
	board := deviceNamed("tide-board", q.devices)
	return append(out,
		scene{say: "Better. Two are left: clients reach one by a short name, and one did not accept its\ncertificate.",
			typed: []string{"probe --all"}, mayFail: true, then: func() error {
				q.Answer(false, "fog-horn says: "+deviceNamed("fog-horn", q.devices).said())
				return nil
			}},
		scene{say: "The clock of the fog horn is seven years slow. A mechanic sets it. The tide board gets\nits full " +
			"name on record.",
			then: func() error {
				deviceNamed("fog-horn", q.devices).set(time.Now)
				return nil
			},
			typed: []string{"party change tide-board --endpoint " + board.host + "@" + board.addr}},
		scene{say: "Now every device is trusted.", typed: []string{"probe --all --record --html ../board-after.html",
			"party show tide-board"}})
}

// ordered are the devices in the order in which their requests are imported: by file name.
func (q *quay) ordered() []*device {
	names, err := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(q.devices[0].folder)), "requests", "*.pem"))
	if err != nil {
		return nil
	}
	var out []*device
	for _, n := range names {
		out = append(out, deviceNamed(strings.TrimSuffix(filepath.Base(n), ".pem"), q.devices))
	}
	return out
}

// deviceNamed finds a device by its name.
func deviceNamed(name string, list []*device) *device {
	for _, d := range list {
		if d.name == name {
			return d
		}
	}
	return &device{name: name, clock: time.Now}
}

// changeRoots moves services below another root, over everything that is there.
func (q *quay) changeRoots(ctx context.Context) error {
	day := time.Now().AddDate(0, 2, 0).Format("2006-01-02")
	prepare := []scene{
		{say: "Now the root changes. Two displays watch the devices all day. At every stage, a live\nclient connects " +
			"with the roots that a display has.",
			typed: []string{"trust kit --party bridge-display --out ../displays"}},
		{typed: []string{"authority create newroot --subject \"CN=Tern Bay Ferries Root 2,O=Tern Bay " +
			"Ferries,C=NO\" --key " +
			"ecdsa-p256 --yes", "authority renew services --under newroot --switch-day " + day + " --yes",
			"changeover prepare services --yes", "changeover plan services --out ../learn"}},
		{say: "A switch now is refused: no display has the new root yet.",
			typed: []string{"changeover switch services --early --yes"}, mayFail: true},
	}
	after := []scene{{say: "The displays have the new root now. Their officers confirm it.",
		typed: []string{`changeover record services bridge-display crew-tablet --because "seen on the bridge"`,
			"changeover progress services", "changeover switch services --early --yes"}}}
	var last []scene
	for i, d := range q.ordered() {
		last = append(last, scene{typed: []string{fmt.Sprintf("certificate handover R%d --party %s --out "+
			"../devices/%s --yes",
			i+1, d.name, d.name)}})
	}
	last = append(last, scene{say: "Every device serves a certificate below the new root.",
		typed: []string{"probe --all --record", "journal verify"}})
	for _, stage := range []struct {
		scenes []scene
		kit    string // that the display has then
		words  string
	}{{prepare, "../displays/own.bundle", "with the old root, prepared"},
		{after, "../learn/bridge-display/own.bundle", "with both roots, switched"},
		{last, "../learn/bridge-display/own.bundle", "with both roots, when all is handed over"}} {
		if err := q.play(stage.scenes); err != nil {
			return err
		}
		if err := q.client(ctx, stage.kit, stage.words); err != nil {
			return err
		}
	}
	return nil
}

// client connects to every device with the roots of a kit.
func (q *quay) client(ctx context.Context, kitDir, words string) error {
	data, err := disk.Read(filepath.Join(kitDir, "roots.pem"), 1<<20)
	if err != nil {
		return err
	}
	found, err := bundle.Read(data)
	if err != nil {
		return err
	}
	var anchors []*cert.Certificate
	for _, o := range found.Of(bundle.Certificate) {
		c, err := cert.Read(o.DER)
		if err != nil {
			return err
		}
		anchors = append(anchors, c)
	}
	for _, d := range q.devices {
		if d.over != "" {
			continue // this client speaks TLS at once
		}
		r, err := probe.Connect(ctx, d.addr, d.host, anchors, time.Now())
		if err != nil {
			return fmt.Errorf("demo: %w", err)
		}
		if !r.Trusted {
			return fmt.Errorf("demo: %s: the display refuses %s: %w", words, d.name, r.Refusal)
		}
	}
	q.Answer(true, fmt.Sprintf("%s: the display connects to every device", words))
	return nil
}
