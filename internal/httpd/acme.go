package httpd

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"

	"ironseal/internal/app/requests/ordering"
	"ironseal/pki/acme"
	"ironseal/pki/fault"
	"ironseal/pki/jose"
	"ironseal/pki/runes"
)

// acmeAt begins the paths of ACME. A directory belongs to a template.
const acmeAt = "/acme/"

// acmeCall is one message of a client, verified.
type acmeCall struct {
	h       *Server
	w       http.ResponseWriter
	r       *http.Request
	label   string
	message jose.Message
	account ordering.Account // that signed it; empty where a key did
	key     *jose.Key        // that signed it; nil where an account did
}

// acmeHandler serves one resource. parts is what follows its name in the path.
type acmeHandler func(c *acmeCall, parts []string) error

// acmePosts are the resources that take signed messages, by the first part of their path.
var acmePosts = map[string]struct {
	do    acmeHandler
	parts int  // that follow
	byKey bool // a message may be signed by a key that has no account
	only  bool // and must be
}{
	"new-account": {acmeNewAccount, 0, true, true},
	"new-order":   {acmeNewOrder, 0, false, false},
	"new-nonce":   {acmePostNonce, 0, false, false},
	"account":     {acmeAccount, 1, false, false},
	"orders":      {acmeOrders, 1, false, false},
	"order":       {acmeOrder, 1, false, false},
	"finalize":    {acmeFinalize, 1, false, false},
	"certificate": {acmeCertificate, 1, false, false},
	"authz":       {acmeAuthorisation, 2, false, false},
	"challenge":   {acmeChallenge, 3, false, false},
	"key-change":  {acmeKeyChange, 0, false, false},
	"revoke-cert": {acmeRevoke, 0, true, false},
}

// acme serves ACME (RFC 8555).
func (h *Server) acme(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	parts := strings.Split(strings.TrimPrefix(r.URL.Path, acmeAt), "/")
	if len(parts) < 2 {
		h.acmeFail(w, r, fault.New(fault.NotFound, "there is nothing here"))
		return
	}
	label, name, rest := parts[0], parts[1], parts[2:]
	if _, err := h.s.Estate().Template(label); err != nil {
		h.acmeFail(w, r, fault.New(fault.NotFound, "there is no directory %q", label))
		return
	}
	reading := r.Method == http.MethodGet || r.Method == http.MethodHead
	if name != "directory" && name != "renewal-info" {
		w.Header().Set("Link", "<"+h.acmeBase(r, label)+`directory>;rel="index"`)
	}
	post, posts := acmePosts[name]
	switch {
	case reading && name == "directory" && len(rest) == 0:
		h.acmeDirectory(w, r, label)
	case reading && name == "new-nonce" && len(rest) == 0:
		h.acmeNonce(w, r)
	case reading && name == "renewal-info" && len(rest) == 1:
		h.acmeRenewalInfo(w, r, rest[0])
	case r.Method == http.MethodPost && posts && len(rest) == post.parts:
		c := &acmeCall{h: h, w: w, r: r, label: label}
		err := c.read(name)
		if err == nil {
			err = post.do(c, rest)
		}
		if err == nil {
			err = h.s.Replaced()
		}
		if err != nil {
			h.acmeFail(w, r, err)
		}
	case posts || name == "directory" || name == "renewal-info":
		h.acmeProblem(w, http.StatusMethodNotAllowed, &acme.Problem{Kind: acme.Malformed,
			Detail: "this resource does not take the method " + runes.Escape(r.Method)})
	default:
		h.acmeFail(w, r, fault.New(fault.NotFound, "there is nothing here"))
	}
}

// acmeBase is how a client reaches the resources of a template.
func (h *Server) acmeBase(r *http.Request, label string) string {
	base := h.s.Settings().MachinesAddress
	if base == "" {
		base = "https://" + r.Host
	}
	return strings.TrimSuffix(base, "/") + acmeAt + label + "/"
}

func (h *Server) acmeDirectory(w http.ResponseWriter, r *http.Request, label string) {
	base := h.acmeBase(r, label)
	set := h.s.Settings()
	h.json(w, http.StatusOK, map[string]any{
		"newNonce": base + "new-nonce", "newAccount": base + "new-account", "newOrder": base + "new-order",
		"revokeCert": base + "revoke-cert", "keyChange": base + "key-change", "renewalInfo": base + "renewal-info",
		"meta": map[string]any{"externalAccountRequired": !set.ACMEOpen}})
}

func (h *Server) json(w http.ResponseWriter, status int, v any) {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		h.log.Error("an answer cannot be made", "error", err)
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "application/json")
	}
	w.WriteHeader(status)
	_, _ = w.Write(append(data, '\n'))
}

func (h *Server) acmeNonce(w http.ResponseWriter, r *http.Request) {
	if err := h.acmeFresh(w); err != nil {
		h.acmeFail(w, r, err)
		return
	}
	if r.Method == http.MethodGet {
		w.WriteHeader(http.StatusNoContent)
	}
}

// acmePostNonce answers a message that only asks for a nonce.
func acmePostNonce(c *acmeCall, _ []string) error {
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

// acmeFresh adds another nonce to an answer.
func (h *Server) acmeFresh(w http.ResponseWriter) error {
	n, err := h.s.Nonces()
	if err == nil {
		w.Header().Set("Replay-Nonce", n.New())
	}
	return err
}

// read reads and verifies a message (RFC 8555 section 6.2). The nonce is taken last, so that a message which is not
// signed by anybody who is known costs no more than its signature.
func (c *acmeCall) read(name string) error {
	if err := c.h.acmeFresh(c.w); err != nil {
		return err
	}
	if kind, _, err := mime.ParseMediaType(c.r.Header.Get("Content-Type")); err != nil ||
		kind != "application/jose+json" {
		return &acme.Problem{Kind: acme.Malformed, Detail: "the content type is not application/jose+json"}
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.w, c.r.Body, jose.Most))
	if err != nil {
		return &acme.Problem{Kind: acme.Malformed, Detail: "the message is too large, or did not come whole"}
	}
	if c.message, err = jose.Read(body); err != nil {
		return err
	}
	m := c.message
	if m.URL != c.address(name) {
		return &acme.Problem{Kind: acme.Malformed, Detail: "the message is for another address: " + c.address(name)}
	}
	post := acmePosts[name]
	switch {
	case (m.Header.Key == nil) == (m.KeyID == ""):
		return &acme.Problem{Kind: acme.Malformed, Detail: "the message names either a key or an account"}
	case m.Header.Key != nil && !post.byKey, m.KeyID != "" && post.only:
		return &acme.Problem{Kind: acme.Malformed, Detail: "the message is signed in another way here " +
			"(RFC 8555 section 6.2)"}
	}
	key := m.Header.Key
	if key == nil {
		if key, err = c.known(m.KeyID); err != nil {
			return err
		}
	} else {
		c.key = key
	}
	if err := m.Verify(*key); err != nil {
		return err
	}
	n, err := c.h.s.Nonces()
	if err == nil {
		err = n.Take(m.Nonce)
	}
	return err
}

// address is what a message for this request is signed for.
func (c *acmeCall) address(string) string {
	base := c.h.acmeBase(c.r, c.label)
	return base + strings.TrimPrefix(c.r.URL.EscapedPath(), acmeAt+c.label+"/")
}

// known is the key of the account that signed a message.
func (c *acmeCall) known(id string) (*jose.Key, error) {
	name, mine := strings.CutPrefix(id, c.url("account", ""))
	if !mine {
		return nil, &acme.Problem{Kind: acme.AccountDoesNotExist, Detail: "the account is not of this directory"}
	}
	var err error
	if c.account, err = ordering.ByID(c.r.Context(), c.h.s.Estate(), c.label, name); err != nil {
		return nil, err
	}
	if c.account.Ended != "" {
		return nil, &acme.Problem{Kind: acme.Unauthorized, Detail: "the account holds no more: " + c.account.Ended}
	}
	return &c.account.Key, nil
}

// url is the address of a resource.
func (c *acmeCall) url(parts ...string) string {
	return c.h.acmeBase(c.r, c.label) + strings.Join(parts, "/")
}

func (c *acmeCall) ctx() context.Context { return c.r.Context() }

// payload reads the payload as an object.
func (c *acmeCall) payload() (map[string]json.RawMessage, error) {
	return jose.Object(c.message.Payload)
}

// asGet reports whether the message only asks (RFC 8555 section 6.3).
func (c *acmeCall) asGet() bool { return len(c.message.Payload) == 0 }

// acmeFail tells a client why nothing was done.
func (h *Server) acmeFail(w http.ResponseWriter, r *http.Request, err error) {
	var p *acme.Problem
	switch {
	case errors.As(err, &p):
	case errors.Is(err, jose.ErrAlgorithm):
		p = &acme.Problem{Kind: acme.BadSignatureAlgorithm, Detail: err.Error()}
	case errors.Is(err, jose.ErrKey):
		p = &acme.Problem{Kind: acme.BadPublicKey, Detail: err.Error()}
	case errors.Is(err, jose.ErrSignature):
		p = &acme.Problem{Kind: acme.Unauthorized, Detail: err.Error()}
	case errors.Is(err, jose.ErrMalformed):
		p = &acme.Problem{Kind: acme.Malformed, Detail: err.Error()}
	case errors.Is(err, ordering.ErrKeyTaken):
		h.acmeProblem(w, http.StatusConflict, &acme.Problem{Kind: acme.Malformed, Detail: err.Error()})
		return
	case errors.Is(err, fault.NotFound):
		h.acmeProblem(w, http.StatusNotFound, &acme.Problem{Kind: acme.Malformed, Detail: err.Error()})
		return
	default:
		status := statusOf(err)
		p = &acme.Problem{Kind: acme.Malformed, Detail: err.Error()}
		if status >= http.StatusInternalServerError {
			h.log.Error("an order failed", "what", whatAsked(r), "error", err)
			w.Header().Set("Retry-After", retryAfter)
			status = http.StatusServiceUnavailable
			p = &acme.Problem{Kind: acme.ServerInternal, Detail: "the server cannot do this at the moment"}
		}
		h.acmeProblem(w, status, p)
		return
	}
	h.acmeProblem(w, statusOfProblem(p.Kind), p)
}

// statusOfProblem is the HTTP status that tells of a problem.
func statusOfProblem(k acme.Kind) int {
	switch k {
	case acme.Unauthorized, acme.OrderNotReady, acme.RejectedIdentifier:
		return http.StatusForbidden
	case acme.ExternalRequired:
		return http.StatusUnauthorized
	case acme.RateLimited:
		return http.StatusTooManyRequests
	case acme.AlreadyReplaced:
		return http.StatusConflict
	case acme.ServerInternal:
		return http.StatusServiceUnavailable
	}
	return http.StatusBadRequest
}

// acmeProblem writes a problem (RFC 9457).
func (h *Server) acmeProblem(w http.ResponseWriter, status int, p *acme.Problem) {
	if p.Retry > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(p.Retry))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	doc := problemDocument(p)
	doc["status"] = status
	if p.Kind == acme.BadSignatureAlgorithm {
		doc["algorithms"] = jose.Algorithms()
	}
	h.json(w, status, doc)
}

// problemDocument is a problem as JSON.
func problemDocument(p *acme.Problem) map[string]any {
	doc := map[string]any{"type": p.Type(), "detail": runes.Escape(p.Detail)}
	if p.Identifier != nil {
		doc["identifier"] = p.Identifier
	}
	var parts []any
	for i := range p.Parts {
		parts = append(parts, problemDocument(&p.Parts[i]))
	}
	if len(parts) > 0 {
		doc["subproblems"] = parts
	}
	return doc
}
