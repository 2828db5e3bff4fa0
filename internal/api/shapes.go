package api

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"ironseal/internal/app/ops/backup"
	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/machines"
	"ironseal/internal/app/revoke/compromise"
	"ironseal/internal/app/revoke/incidents"
	"ironseal/internal/app/revoke/monitoring"
	"ironseal/internal/event"
	"ironseal/pki/client"
	"ironseal/pki/describe"
	"ironseal/pki/endpoint"
	"ironseal/pki/finding"
	"ironseal/pki/renewal"
	"ironseal/pki/template"
	"ironseal/pki/trust"
)

// Field is one field of a shape.
type Field struct {
	Name string
	Kind reflect.Kind // String, Int, Bool, Slice or Map
	Must bool         // always there
	Doc  string
}

// Shape is what the objects of one noun consist of.
type Shape struct {
	Noun     string
	Commands string
	Fields   []Field
}

// Shapes are all that commands print with --json, but for the short answers of acts.
func Shapes() []Shape {
	return []Shape{
		{"certificate", "certificate show, authority show, read, and what signing, renewing and importing print",
			objectFields(certificateFacts)},
		{"certificate in a list", "certificate list", fieldsOf(Certificate{})},
		{"request", "request show, read", objectFields(requestFacts)},
		{"request in a list", "request list, request receive", fieldsOf(Request{})},
		{"authority in a list", "authority list", fieldsOf(Authority{})},
		{"branch", "authority tree", fieldsOf(Branch{})},
		{"generation in a branch", "authority tree", fieldsOf(BranchGeneration{})},
		{"template", "template show, template list", fieldsOf(template.Template{})},
		{"verdict", "verify", fieldsOf(Verdict{})},
		{"answer of a client", "verify", fieldsOf(client.Answer{})},
		{"step", "verify", fieldsOf(Step{})},
		{"finding", "wherever there are findings", fieldsOf(finding.Finding{})},
		{"entry", "journal list, journal show", fieldsOf(Entry{})},
		{"trust set", "trust show, trust list", fieldsOf(TrustSet{})},
		{"anchor", "trust show, trust list", fieldsOf(Anchor{})},
		{"store", "trust check", fieldsOf(StoreCheck{})},
		{"kit", "trust check KIT", fieldsOf(KitCheck{})},
		{"machine", "trust machines", fieldsOf(Machine{})},
		{"pair", "trust pair", fieldsOf(Pair{})},
		{"party", "party list", fieldsOf(trust.Party{})},
		{"party, known", "party show", fieldsOf(parties.Known{})},
		{"endpoint", "probe", fieldsOf(endpoint.Row{})},
		{"change of an endpoint", "probe --before, probe --like", fieldsOf(endpoint.Change{})},
		{"revocation", "revoke", fieldsOf(Revoked{})},
		{"revoked certificate", "revoke, release", fieldsOf(RevokedCertificate{})},
		{"revocation list", "revocations list", fieldsOf(RevocationList{})},
		{"published list", "revocations publish, revocations import", fieldsOf(event.List{})},
		{"checked list", "revocations check", fieldsOf(monitoring.Checked{})},
		{"incident", "incident list", fieldsOf(compromise.Incident{})},
		{"incident, known", "incident open, incident show", fieldsOf(Incident{})},
		{"step of an incident", "incident open, incident show", fieldsOf(IncidentStep{})},
		{"link for a suspected key", "incident open, incident show", fieldsOf(incidents.CrossCertificate{})},
		{"affected certificate", "incident open, incident show", fieldsOf(incidents.Affected{})},
		{"status", "estate status", fieldsOf(Status{})},
		{"due", "due", fieldsOf(Due{})},
		{"forecast", "forecast", fieldsOf(renewal.Report{})},
		{"idle authority", "forecast", fieldsOf(renewal.Idle{})},
		{"served address", "serve --check", fieldsOf(ServedAddress{})},
		{"invitation", "desk invite, desk list", fieldsOf(Invitation{})},
		{"enrolment code", "enrol code, enrol list", fieldsOf(EnrolmentCode{})},
		{"account credential", "enrol account", fieldsOf(AccountCredential{})},
		{"enrolled machines", "enrol show", fieldsOf(machines.Shown{})},
		{"operator", "operator list, operator show", fieldsOf(Operator{})},
		{"proposal", "proposal list, proposal show", fieldsOf(Proposal{})},
		{"notice", "what the notify command of serve reads", fieldsOf(service.Notice{})},
		{"check", "estate check", fieldsOf(Check{})},
		{"backup", "estate backup", fieldsOf(backup.Backup{})},
	}
}

// fieldsOf are the fields of a structure as encoding/json writes them.
func fieldsOf(v any) (out []Field) {
	t := reflect.TypeOf(v)
	for i := range t.NumField() {
		f := t.Field(i)
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "-" || !f.IsExported() {
			continue
		}
		if f.Anonymous && name == "" { // its fields stand among those around it
			out = append(out, fieldsOf(reflect.Zero(f.Type).Interface())...)
			continue
		}
		out = slices.DeleteFunc(out,
			func(o Field) bool { return o.Name == name }) // it replaces an embedded one
		out = append(out, Field{name, kindOf(f.Type), !strings.Contains(rest, "omit"), f.Tag.Get("doc")})
	}
	return out
}

// kindOf is a type as JSON has it; times and other texts that write themselves are text.
func kindOf(t reflect.Type) reflect.Kind {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if _, ok := t.MethodByName("MarshalJSON"); ok && t.Kind() != reflect.Slice {
		return reflect.String
	}
	if _, ok := t.MethodByName("MarshalText"); ok {
		return reflect.String
	}
	switch t.Kind() {
	case reflect.Int, reflect.Int64:
		return reflect.Int
	case reflect.Struct:
		return reflect.Map
	}
	return t.Kind()
}

// fact is a fact of a described object.
type fact struct {
	name string
	must bool
	doc  string
}

var commonFacts = []fact{
	{"kind", true, "certificate, request, and so on"},
	{"subject", true, "its distinguished name"},
	{"names", true, "alternative names, each with its kind"},
	{"key", true, "kind of key"},
	{"check_code", true, "the code by which two people compare it"},
	{"paste_tail", true, "the first and the last characters of its base 64"},
	{"signature", true, "what it was signed with"},
	{"sha256", true, "SHA-256 of it, in hex"},
	{"key_sha256", true, "SHA-256 of its key, in hex"},
	{"key_fault", false, "why its key is worthless"},
	{"extensions", true, "name, oid, critical, words of each extension"},
	{"findings", true, "what was found"},
	{"journal_head", false, "the journal's head after the act"},
	{"request", false, "its number, or that of its request, such as R7"},
	{"state", false, "as in the list"},
}

var certificateFacts = append([]fact{
	{"ca", true, "whether it is an authority's"},
	{"usages", true, "key usages and extended key usages"},
	{"constraints", false, "names that it may certify"},
	{"issuer", true, "who signed it"},
	{"not_before", true, "first moment"},
	{"not_after", true, "last moment"},
	{"serial", true, "its serial number, in hex"},
	{"sha1", true, "SHA-1, for looking it up elsewhere"},
	{"subject_key", true, "its key identifier, in hex"},
	{"authority_key", true, "the key identifier of its issuer, in hex"},
	{"rehearsal", false, "made in a rehearsal"},
	{"days_left", false, "whole days; below zero once it ended"},
	{"chain", false, "the certificate, then the generations above it"},
	{"by", false, "who signed it, as in the list"},
	{"held_by", false, "who is known to hold it"},
	{"template", false, "the template it was signed by"},
	{"handle", false, "what the authority is called here"},
	{"generation", false, "the number of the generation"},
	{"generations", false, "its generations, such as services.g1"},
	{"links", false, "the link certificates between them, such as g1:g2"},
}, commonFacts...)

var requestFacts = append([]fact{
	{"asks", true, "usages that it asks for; ca when it asks to be an authority's"},
	{"proven", true, "whether it is signed by its own key"},
	{"received", false, "when it was received"},
	{"from", false, "who sent it"},
	{"reason", false, "why it was declined"},
	{"purpose", false, "what the sender said at the desk that it is for"},
	{"names_beside", false, "names that the sender typed beside it, each with its kind"},
	{"template_wanted", false, "the template that the sender chose"},
	{"receiver_wanted", false, "the receiver that the sender chose"},
	{"invitation", false, "by whose invitation it came"},
	{"renews", false, "the request before it, of the same holder"},
	{"request_file", false, "where a draft was written"},
	{"key_file", false, "where its key was written"},
}, commonFacts...)

func objectFields(facts []fact) (out []Field) {
	for _, f := range facts {
		kind := reflect.String
		switch {
		case f.name == "findings" || slices.Contains(describe.Lists, f.name):
			kind = reflect.Slice
		case slices.Contains(describe.Numbers, f.name):
			kind = reflect.Int
		case slices.Contains(describe.Flags, f.name):
			kind = reflect.Bool
		}
		out = append(out, Field{f.name, kind, f.must, f.doc})
	}
	return out
}

// words are the kinds as JSON calls them.
var words = map[reflect.Kind]string{reflect.String: "text", reflect.Int: "number", reflect.Bool: "true or false",
	reflect.Slice: "list", reflect.Map: "object"}

// Reference writes docs/json.md.
func Reference() string {
	var b strings.Builder
	b.WriteString("# JSON\n\nThe program writes this page from its own shapes. Do not edit " +
		"it.\n\nEvery command prints JSON with `--json`. Lists are arrays, empty where there is nothing; a field " +
		"that is not known is absent, never null; times are in UTC as RFC 3339 has them. " +
		"Fields may be added; none changes its " +
		"meaning. Errors go to standard error as text, and the exit status tells their kind.\n")
	for _, s := range Shapes() {
		fmt.Fprintf(&b, "\n## %s\n\nFrom: %s.\n\n| field | type | always there | what |\n|---|---|---|---|\n",
			strings.ToUpper(s.Noun[:1])+s.Noun[1:], s.Commands)
		for _, f := range s.Fields {
			always := ""
			if f.Must {
				always = "yes"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", f.Name, words[f.Kind], always, f.Doc)
		}
	}
	return b.String()
}
