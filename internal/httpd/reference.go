package httpd

import (
	"fmt"
	"strings"
	"time"

	"ironseal/internal/app/requests/ordering"
	"ironseal/internal/estate"
	"ironseal/pki/acme"
	"ironseal/pki/jose"
	"ironseal/pki/scep"
)

// served is one thing that is served, for the page.
type served struct{ path, what string }

var publicPages = []served{
	{"`/NAME.crl`, `/NAME.crl.pem`", "a revocation list: of all certificates of a generation, of a part " +
		"(`NAME-2.crl`), or " +
		"the delta (`NAME.delta.crl`). Any folder before the name is accepted, so addresses that certificates name " +
		"stay good " +
		"when they change"},
	{"`/NAME.cer`, `/NAME.p7c`", "the certificate of a generation, alone and with those above it"},
	{"`/NAME.lists.pem`, `/HANDLE.lists.pem`", "the lists of a whole path in one file, for servers that check clients"},
	{"`/ocsp`, and the path of `publication.ocsp`", "OCSP by POST and by GET (RFC 6960, RFC 5019, RFC 9654). An " +
		"unknown " +
		"serial is `unknown`. A request about an issuer for which the server has no key and no prepared answer is " +
		"answered " +
		"`unauthorized`"},
	{"`/roots`", "the roots with fingerprints and check codes, as PEM, DER and PKCS#7, and kits for every platform"},
}

var deskPages = []served{
	{"`/`", "the form for a request"},
	{"`/invited/SECRET`", "the form of a person who was invited"},
	{"`/request/SECRET`", "the page of one request: its state, the certificate in every shape, the page for the " +
		"device"},
}

var machinePages = []served{
	{"`/.well-known/est/cacerts`, `/.well-known/est/LABEL/cacerts`", "the certificates of the authorities in force"},
	{"`/.well-known/est/LABEL/simpleenroll`", "a first certificate, by an enrolment code as the password of HTTP " +
		"Basic. LABEL is a template. What waits for a person is answered 202; the same request again asks for the " +
		"outcome"},
	{"`/.well-known/est/LABEL/simplereenroll`", "a renewal, by the certificate that the machine has"},
	{"`/.well-known/est/LABEL/csrattrs`", "what a request should have, in the form of a template (RFC 9908) and in " +
		"the " +
		"older one"},
	{"`/.well-known/est/LABEL/serverkeygen`", "a certificate with a key that the server makes, sealed to an RSA " +
		"key of " +
		"the machine; where the template says `make-keys`"},
	{"`/acme/LABEL/directory`", "the directory of ACME for a template; it names the other addresses"},
	{"`/acme/LABEL/renewal-info/ID`", "when a certificate is to be renewed (RFC 9773): in an incident at once"},
	{"`/scep/LABEL`", "SCEP, with the operations of RFC 8894; what follows LABEL in the path is of no account. The " +
		"public address serves it too, over plain HTTP"},
}

var healthPages = []served{
	{"`/healthz`", "200 and `ok`, or 503 and what is wrong, one sentence a line; notes begin with `note:`"},
	{"`/readyz`", "200 once the server answers"},
	{"`/metrics`", "the metrics below, in the text format of Prometheus"},
}

// Reference lists addresses, settings, bounds and metrics, written from the code, as sections of a page.
func Reference() string {
	var b strings.Builder
	table := func(title string, rows []served) {
		fmt.Fprintf(&b, "## %s\n\n| address | what |\n|---|---|\n", title)
		for _, r := range rows {
			fmt.Fprintf(&b, "| %s | %s |\n", r.path, r.what)
		}
		b.WriteString("\n")
	}
	table("Public, plain HTTP", publicPages)
	table("The desk, HTTPS", deskPages)
	table("Machines, HTTPS (EST, RFC 7030; ACME, RFC 8555; SCEP, RFC 8894)", machinePages)
	table("Health, plain HTTP", healthPages)
	b.WriteString("## Settings\n\n```toml" + estate.ServeText + "```\n\n## Bounds\n\n| what | bound |\n|---|---|\n")
	for _, r := range []served{
		{"headers of a request", fmt.Sprintf("%d kB, within %s", mostHeader>>10, brief(headerTime))},
		{"an OCSP request", fmt.Sprintf("%d kB; %d kB in a path; within %s", mostOCSP>>10, mostGetPath>>10,
			brief(askTime))},
		{"a form", fmt.Sprintf("%d kB, within %s", mostForm>>10, brief(bodyTime))},
		{"an answer", fmt.Sprintf("%s, and a second for each %d kB", brief(answerTime), slowest>>10)},
		{"a connection that is idle", brief(idleTime)},
		{"a list in caches", "until its next update, and " + brief(mostAge) + " at most"},
		{"requests of one address", "the setting pace, in a minute; this machine may send any number"},
		{"a message of ACME", fmt.Sprintf("%d kB; %d identifiers in an order; an order waits %s for its challenges",
			jose.Most>>10, acme.MostIdentifiers, brief(ordering.Life))},
		{"a message of SCEP", fmt.Sprintf("%d kB", scep.Most>>10)},
		{"a look at a name for a challenge", "4 kB, 10 s, 3 redirects, to the same host alone; never to loopback, " +
			"link-local or the server's own addresses"},
		{"a private address that does not exist", fmt.Sprintf("costs as much as %d requests", costOfMiss)},
	} {
		fmt.Fprintf(&b, "| %s | %s |\n", r.path, r.what)
	}
	b.WriteString("\n## Metrics\n\n| name | kind | labels | what |\n|---|---|---|---|\n")
	for _, m := range Metrics {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", m.Name, m.Kind, m.Labels, m.Help)
	}
	return b.String()
}

// brief is a duration without parts that are zero.
func brief(d time.Duration) string {
	switch {
	case d%(24*time.Hour) == 0:
		return fmt.Sprintf("%d days", d/(24*time.Hour))
	case d%time.Hour == 0:
		return fmt.Sprintf("%d h", d/time.Hour)
	case d%time.Minute == 0:
		return fmt.Sprintf("%d min", d/time.Minute)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}
