package httpd

import (
	"bytes"
	"net/http"
	"slices"
	"strconv"
	"time"

	"ironseal/internal/app/requests/ordering"
	"ironseal/pki/acme"
	"ironseal/pki/bundle"
	"ironseal/pki/jose"
	"ironseal/pki/template"
)

// acmeRetry is when a client asks again for an order that is processed, in seconds.
const acmeRetry = "10"

// acmeNewOrder makes an order (RFC 8555 section 7.4).
func acmeNewOrder(c *acmeCall, _ []string) error {
	object, err := c.payload()
	if err != nil {
		return err
	}
	var ask ordering.NewAsk
	if err := member(object, "identifiers", &ask.Names); err != nil {
		return err
	}
	if err := member(object, "replaces", &ask.Replaces); err != nil {
		return err
	}
	_, from := object["notBefore"]
	_, until := object["notAfter"]
	ask.Dated = from || until
	o, err := ordering.New(c.ctx(), c.h.s.Estate(), c.account, ask)
	if err != nil {
		return err
	}
	return c.tellOrder(o, http.StatusCreated)
}

func (c *acmeCall) tellOrder(o ordering.Order, status int) error {
	doc := map[string]any{"status": o.Status, "expires": o.Until.Format(time.RFC3339),
		"finalize": c.url("finalize", o.ID)}
	names, proofs := []acme.Identifier{}, []string{}
	for i, p := range o.Proofs {
		names = append(names, acme.Of(p.Name))
		proofs = append(proofs, c.url("authz", o.ID, strconv.Itoa(i)))
	}
	doc["identifiers"], doc["authorizations"] = names, proofs
	if o.Problem != nil {
		doc["error"] = problemDocument(o.Problem)
	}
	switch o.Status {
	case ordering.Valid:
		doc["certificate"] = c.url("certificate", o.ID)
	case ordering.Processing:
		c.w.Header().Set("Retry-After", acmeRetry)
	}
	c.w.Header().Set("Location", c.url("order", o.ID))
	c.h.json(c.w, status, doc)
	return nil
}

// order finds an order of the account.
func (c *acmeCall) order(id string) (ordering.Order, error) {
	return ordering.ByOrderID(c.ctx(), c.h.s.Estate(), c.account, id, c.h.s.Unlocked)
}

func acmeOrder(c *acmeCall, parts []string) error {
	o, err := c.order(parts[0])
	if err != nil {
		return err
	}
	return c.tellOrder(o, http.StatusOK)
}

// acmeFinalize takes the request of an order.
func acmeFinalize(c *acmeCall, parts []string) error {
	object, err := c.payload()
	if err != nil {
		return err
	}
	text, err := jose.Text(object, "csr")
	if err != nil {
		return err
	}
	der, err := jose.Base64(text)
	if err != nil {
		return err
	}
	o, err := c.order(parts[0])
	if err != nil {
		return err
	}
	o, err = ordering.Finish(c.ctx(), c.h.s.Estate(), c.account, o, der, c.h.s.Unlocked)
	c.h.metrics.enrol(template.ACME, o.Outcome, err)
	if err != nil {
		return err
	}
	if o.Status == ordering.Processing {
		c.h.waits(o.Outcome)
	}
	return c.tellOrder(o, http.StatusOK)
}

// acmeCertificate hands out the certificate of an order (RFC 8555 section 7.4.2).
func acmeCertificate(c *acmeCall, parts []string) error {
	o, err := c.order(parts[0])
	if err != nil {
		return err
	}
	chain, err := ordering.Fetch(c.ctx(), c.h.s.Estate(), o)
	if err == nil {
		err = c.h.s.Replaced()
	}
	if err != nil {
		return err
	}
	var b bytes.Buffer
	for _, der := range chain {
		b.Write(bundle.PEM(bundle.Certificate, der))
	}
	c.h.s.Delivered(*o.Certificate, c.account.Sender())
	c.w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = c.w.Write(b.Bytes())
	return nil
}

// proof finds a name of an order.
func (c *acmeCall) proof(parts []string) (ordering.Order, int, error) {
	o, err := c.order(parts[0])
	if err != nil {
		return o, 0, err
	}
	i, err := strconv.Atoi(parts[1])
	if err != nil || i < 0 || i >= len(o.Proofs) || strconv.Itoa(i) != parts[1] {
		return o, 0, malformed("the order has no such authorization")
	}
	return o, i, nil
}

// acmeAuthorisation shows how control of a name is proven (RFC 8555 section 7.1.4), or gives the name up.
func acmeAuthorisation(c *acmeCall, parts []string) error {
	o, i, err := c.proof(parts)
	if err != nil {
		return err
	}
	if !c.asGet() {
		object, err := c.payload()
		if err != nil {
			return err
		}
		if status, err := jose.Text(object, "status"); err != nil || status != "deactivated" {
			return malformed("the status that an authorization is given is deactivated")
		}
		if o, err = ordering.Deactivate(c.ctx(), c.h.s.Estate(), c.account, o, i); err != nil {
			return err
		}
	}
	p := o.Proofs[i]
	name := acme.Of(p.Name)
	doc := map[string]any{"status": p.Status, "expires": o.Until.Format(time.RFC3339)}
	if p.Name.IsWildcard() {
		name.Value = p.Name.Under()
		doc["wildcard"] = true
	}
	doc["identifier"] = name
	list := []any{}
	for _, m := range acme.Methods(p.Name) {
		if p.Status == ordering.Pending || p.Method == m || p.Held && p.Method == "" && len(list) == 0 {
			list = append(list, c.challenge(o, i, m))
		}
	}
	doc["challenges"] = list
	if p.Status == ordering.Pending {
		c.w.Header().Set("Retry-After", "1")
	}
	c.h.json(c.w, http.StatusOK, doc)
	return nil
}

// challenge is one challenge as JSON.
func (c *acmeCall) challenge(o ordering.Order, i int, m acme.Method) map[string]any {
	p := o.Proofs[i]
	doc := map[string]any{"type": m, "url": c.url("challenge", o.ID, strconv.Itoa(i), string(m)),
		"token": acme.Token(o.Seed, i, m), "status": ordering.Pending}
	switch {
	case p.Problem != nil:
		doc["status"], doc["error"] = ordering.Invalid, problemDocument(p.Problem)
	case p.Status == ordering.Valid || p.Status == ordering.Deactivated:
		doc["status"] = ordering.Valid
		if !p.At.IsZero() {
			doc["validated"] = p.At.UTC().Format(time.RFC3339)
		}
	}
	return doc
}

// acmeChallenge tries a challenge (RFC 8555 section 7.5.1), or shows it.
func acmeChallenge(c *acmeCall, parts []string) error {
	o, i, err := c.proof(parts)
	if err != nil {
		return err
	}
	m := acme.Method(parts[2])
	if !slices.Contains(acme.Methods(o.Proofs[i].Name), m) {
		return malformed("the authorization has no such challenge")
	}
	if !c.asGet() {
		if _, err := c.payload(); err != nil {
			return err
		}
		done, err := c.h.proving.begin(c.ctx(), c.account.ID, o.ID)
		if err != nil {
			return err
		}
		o, err = ordering.Try(c.ctx(), c.h.s.Estate(), c.h.s.Looker(), c.account, o, i, m)
		done()
		if err != nil {
			return err
		}
	}
	c.w.Header().Add("Link", "<"+c.url("authz", o.ID, strconv.Itoa(i))+`>;rel="up"`)
	c.h.json(c.w, http.StatusOK, c.challenge(o, i, m))
	return nil
}

// acmeRevoke revokes a certificate (RFC 8555 section 7.6).
func acmeRevoke(c *acmeCall, _ []string) error {
	object, err := c.payload()
	if err != nil {
		return err
	}
	ask := ordering.RevokeAsk{Key: c.key}
	if c.key == nil {
		ask.Account = &c.account
	}
	text, err := jose.Text(object, "certificate")
	if err != nil {
		return err
	}
	if ask.Certificate, err = jose.Base64(text); err != nil {
		return err
	}
	if err := member(object, "reason", &ask.Reason); err != nil {
		return err
	}
	if err := ordering.Revoke(c.ctx(), c.h.s.Estate(), ask); err != nil {
		return err
	}
	c.h.s.Wake()
	c.w.WriteHeader(http.StatusOK)
	return nil
}

// acmeRenewalInfo says when a certificate is renewed (RFC 9773 section 4.2).
func (h *Server) acmeRenewalInfo(w http.ResponseWriter, r *http.Request, id string) {
	s, err := ordering.Suggest(r.Context(), h.s.Estate(), id)
	if err != nil {
		h.acmeFail(w, r, err)
		return
	}
	w.Header().Set("Retry-After", "21600")
	if s.Why != "" {
		w.Header().Set("Retry-After", "60")
	}
	h.json(w, http.StatusOK, map[string]any{"suggestedWindow": map[string]string{
		"start": s.From.Format(time.RFC3339), "end": s.Until.Format(time.RFC3339)}})
}
