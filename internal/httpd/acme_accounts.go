package httpd

import (
	"encoding/json"
	"net/http"

	"ironseal/internal/app/requests/ordering"
	"ironseal/pki/acme"
	"ironseal/pki/jose"
)

func malformed(why string) error { return &acme.Problem{Kind: acme.Malformed, Detail: why} }

// member reads a member of an object into v; nothing where it is not there.
func member(object map[string]json.RawMessage, name string, v any) error {
	raw, there := object[name]
	if !there {
		return nil
	}
	if json.Unmarshal(raw, v) != nil {
		return malformed("the member " + name + " has another type")
	}
	return nil
}

// acmeNewAccount registers an account (RFC 8555 section 7.3).
func acmeNewAccount(c *acmeCall, _ []string) error {
	object, err := c.payload()
	if err != nil {
		return err
	}
	e := c.h.s.Estate()
	ask := ordering.RegisterAsk{Template: c.label, Key: *c.key, Open: c.h.s.Settings().ACMEOpen}
	var only bool
	if err := member(object, "contact", &ask.Contacts); err != nil {
		return err
	}
	if err := member(object, "onlyReturnExisting", &only); err != nil {
		return err
	}
	a, err := ordering.ByKey(c.ctx(), e, c.label, *c.key)
	if err == nil {
		return c.tellAccount(a, http.StatusOK)
	}
	if only {
		return err
	}
	if binding, there := object["externalAccountBinding"]; there {
		ask.KeyID, err = ordering.Bind(c.ctx(), e, binding, c.url("new-account"), *c.key)
		if err != nil {
			if !c.h.pace.takes(c.h.pace.client(c.r), costOfMiss) {
				return &acme.Problem{Kind: acme.RateLimited, Detail: "too many attempts", Retry: 60}
			}
			return err
		}
	}
	a, created, err := ordering.Register(c.ctx(), e, ask)
	if err != nil {
		return err
	}
	status := http.StatusOK
	if created {
		status = http.StatusCreated
		c.h.log.Info("a machine registered an account", "account", a.Title(), "template", a.Template)
	}
	return c.tellAccount(a, status)
}

func (c *acmeCall) tellAccount(a ordering.Account, status int) error {
	if a.Ended != "" && status == http.StatusOK && c.key != nil {
		return &acme.Problem{Kind: acme.Unauthorized, Detail: "the account holds no more: " + a.Ended}
	}
	state := "valid"
	if a.Ended != "" {
		state = "deactivated"
	}
	c.w.Header().Set("Location", c.url("account", a.ID))
	c.h.json(c.w, status, map[string]any{"status": state, "contact": a.Contacts, "orders": c.url("orders", a.ID)})
	return nil
}

// acmeAccount shows, changes or ends an account.
func acmeAccount(c *acmeCall, parts []string) error {
	if parts[0] != c.account.ID {
		return &acme.Problem{Kind: acme.Unauthorized, Detail: "this is another account"}
	}
	if c.asGet() {
		return c.tellAccount(c.account, http.StatusOK)
	}
	object, err := c.payload()
	if err != nil {
		return err
	}
	var status string
	contacts := c.account.Contacts
	if err := member(object, "status", &status); err != nil {
		return err
	}
	if err := member(object, "contact", &contacts); err != nil {
		return err
	}
	e := c.h.s.Estate()
	switch status {
	case "", "valid":
		err = ordering.SetContacts(c.ctx(), e, c.account, contacts)
	case "deactivated":
		err = ordering.End(c.ctx(), e, c.account.ID, "the machine gave it up")
	default:
		err = malformed("the status of an account is valid or deactivated")
	}
	if err != nil {
		return err
	}
	a, err := ordering.ByID(c.ctx(), e, c.label, c.account.ID)
	if err != nil {
		return err
	}
	return c.tellAccount(a, http.StatusOK)
}

// acmeOrders lists the latest orders of an account (RFC 8555 section 7.1.2.1).
func acmeOrders(c *acmeCall, parts []string) error {
	if parts[0] != c.account.ID {
		return &acme.Problem{Kind: acme.Unauthorized, Detail: "this is another account"}
	}
	list, err := ordering.Latest(c.ctx(), c.h.s.Estate(), c.account)
	if err != nil {
		return err
	}
	urls := []string{}
	for _, id := range list {
		urls = append(urls, c.url("order", id))
	}
	c.h.json(c.w, http.StatusOK, map[string]any{"orders": urls})
	return nil
}

// acmeKeyChange gives an account another key (RFC 8555 section 7.3.5).
func acmeKeyChange(c *acmeCall, _ []string) error {
	inner, err := jose.Read(c.message.Payload)
	if err != nil {
		return err
	}
	if inner.Header.Key == nil || inner.KeyID != "" || inner.Nonce != "" || inner.URL != c.message.URL {
		return malformed("the inner message names the new key and the same address, and has no nonce")
	}
	next := *inner.Header.Key
	if err := inner.Verify(next); err != nil {
		return err
	}
	object, err := jose.Object(inner.Payload)
	if err != nil {
		return err
	}
	account, err := jose.Text(object, "account")
	if err != nil {
		return err
	}
	old, err := jose.Known(object["oldKey"])
	if err != nil {
		return err
	}
	if account != c.message.KeyID || !old.Same(c.account.Key) {
		return malformed("the inner message names another account, or another key than its own")
	}
	e := c.h.s.Estate()
	if taken, err := ordering.ByKey(c.ctx(), e, c.label, next); err == nil {
		c.w.Header().Set("Location", c.url("account", taken.ID))
		return ordering.ErrKeyTaken
	}
	if err := ordering.SetKey(c.ctx(), e, c.account, next); err != nil {
		return err
	}
	a, err := ordering.ByID(c.ctx(), e, c.label, c.account.ID)
	if err != nil {
		return err
	}
	return c.tellAccount(a, http.StatusOK)
}
