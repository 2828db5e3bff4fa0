package httpd

import (
	"crypto"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strings"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/enrol"
	"ironseal/pki/cert"
	"ironseal/pki/est"
	"ironseal/pki/fault"
	"ironseal/pki/lifecycle"
	"ironseal/pki/pkcs"
	"ironseal/pki/runes"
	"ironseal/pki/template"
)

// retryAfter is when a machine asks again whose request waits for a person, in seconds.
const retryAfter = "300"

// Machines serves machines that enrol by a protocol: EST (RFC 7030), ACME (RFC 8555), SCEP (RFC 8894). A label is a
// template.
func (h *Server) Machines() http.Handler {
	mux := http.NewServeMux()
	const at = "/.well-known/est/"
	mux.HandleFunc("GET "+at+"cacerts", h.estRoots)
	mux.HandleFunc("GET "+at+"{label}/cacerts", h.estRoots)
	mux.HandleFunc("GET "+at+"{label}/csrattrs", h.estAttributes)
	mux.HandleFunc("POST "+at+"{label}/serverkeygen", h.estKey)
	mux.HandleFunc("POST "+at+"{label}/simpleenroll", func(w http.ResponseWriter, r *http.Request) {
		h.est(w, r,
			false)
	})
	mux.HandleFunc("POST "+at+"{label}/simplereenroll", func(w http.ResponseWriter, r *http.Request) {
		h.est(w, r,
			true)
	})
	mux.HandleFunc(acmeAt, h.acme)
	mux.HandleFunc(scepAt, h.scep)
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "there is nothing here: EST is at /.well-known/est/LABEL/simpleenroll, ACME at "+
			"/acme/LABEL/directory, SCEP at /scep/LABEL", http.StatusNotFound)
	})
	return mux
}

// estRoots hands out the roots, and what is between them and machines (RFC 7030 section 4.1).
func (h *Server) estRoots(w http.ResponseWriter, r *http.Request) {
	hierarchy, err := h.s.Estate().Hierarchy(r.Context())
	if err != nil {
		h.estFail(w, r, err)
		return
	}
	var all [][]byte
	now := h.s.Estate().Now()
	for _, a := range hierarchy {
		if g := a.Current(); g != nil && !now.After(g.Certificate.NotAfter) && g.
			RevokedAbove() == nil && g.Stopped == "" {
			all = append(all, g.Certificate.Raw)
		}
	}
	h.certificates(w, r, all)
}

// certificates sends certificates as EST does: PKCS#7 without signers, in base64 (RFC 8951 section 3.1).
func (h *Server) certificates(w http.ResponseWriter, r *http.Request, list [][]byte) {
	der, err := pkcs.WriteSignedData(list)
	if err != nil {
		h.estFail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/pkcs7-mime; smime-type=certs-only")
	w.Header().Set("Content-Transfer-Encoding", "base64")
	w.Header().Set("Cache-Control", "no-store")
	_, _ = io.WriteString(w, inLines(der))
}

// inLines is base64 in lines of 64 characters.
func inLines(der []byte) string {
	text := base64.StdEncoding.EncodeToString(der)
	var b strings.Builder
	for len(text) > 0 {
		n := min(64, len(text))
		b.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	return b.String()
}

// estAttributes tells what a request should have (RFC 7030 section 4.5).
func (h *Server) estAttributes(w http.ResponseWriter, r *http.Request) {
	t, err := h.s.Estate().Template(r.PathValue("label"))
	var der []byte
	if err == nil {
		der, err = est.Attributes(t)
	}
	if err != nil {
		h.estFail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/csrattrs")
	w.Header().Set("Content-Transfer-Encoding", "base64")
	_, _ = io.WriteString(w, inLines(der))
}

// estAsk reads what a machine asks for; false where it was answered already.
func (h *Server) estAsk(w http.ResponseWriter, r *http.Request, again bool) (ask enrol.Ask, ok bool) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostForm))
	if err != nil {
		http.Error(w, "the request is too large, or did not come whole", http.StatusRequestEntityTooLarge)
		return ask, false
	}
	der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(body)), ""))
	if err != nil {
		http.Error(w, "the body is not base64 (RFC 8951 section 3.1)", http.StatusBadRequest)
		return ask, false
	}
	ask = enrol.Ask{By: template.EST, Label: r.PathValue("label"), Request: der, Again: again, Unlocked: h.s.Unlocked,
		Session: sessionOf(r.TLS)}
	if _, code, ok := r.BasicAuth(); ok {
		ask.Code = code
	}
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		if ask.Certificate, err = cert.Read(r.TLS.PeerCertificates[0].Raw); err != nil {
			http.Error(w, "your certificate cannot be parsed", http.StatusBadRequest)
			return ask, false
		}
	}
	return ask, true
}

// sessionOf is what binds a request to a TLS session, in base64: tls-exporter (RFC 9266), and tls-unique (RFC 5929)
// where the session has it.
func sessionOf(c *tls.ConnectionState) (out []string) {
	if c == nil {
		return nil
	}
	if b, err := c.ExportKeyingMaterial("EXPORTER-Channel-Binding", nil, 32); err == nil {
		out = append(out, base64.StdEncoding.EncodeToString(b))
	}
	if len(c.TLSUnique) > 0 {
		out = append(out, base64.StdEncoding.EncodeToString(c.TLSUnique))
	}
	return out
}

// est enrols a machine, or renews its certificate (RFC 7030 section 4.2).
func (h *Server) est(w http.ResponseWriter, r *http.Request, again bool) {
	ask, ok := h.estAsk(w, r, again)
	if !ok {
		return
	}
	out, err := enrol.Enrol(r.Context(), h.s.Estate(), ask)
	h.metrics.enrol(template.EST, out, err)
	if err == nil {
		err = h.s.Replaced()
	}
	if err != nil {
		h.estFail(w, r, err)
		return
	}
	switch {
	case out.Certificate != nil:
		if err := delivery.Fit(r.Context(), h.s.Estate().Records, *out.Certificate); err != nil {
			h.estFail(w, r, err)
			return
		}
		h.s.Delivered(*out.Certificate, "")
		h.certificates(w, r, [][]byte{out.Certificate.Raw})
	case out.State == lifecycle.Waiting || out.State == lifecycle.Sent:
		h.waits(out)
		w.Header().Set("Retry-After", retryAfter)
		w.WriteHeader(http.StatusAccepted)
		_, _ = io.WriteString(w, out.Number+" waits for a person\n")
	default:
		http.Error(w, out.Number+" was "+string(out.State), http.StatusForbidden)
	}
}

// estKey makes a key for a machine and enrols it (RFC 7030 section 4.4).
func (h *Server) estKey(w http.ResponseWriter, r *http.Request) {
	ask, ok := h.estAsk(w, r, false)
	if !ok {
		return
	}
	i := h.s.Identity()
	if i == nil || i.Temporary {
		w.Header().Set("Retry-After", retryAfter)
		http.Error(w, "the server's own certificate is not signed yet", http.StatusServiceUnavailable)
		return
	}
	signer, ok := i.TLS.PrivateKey.(crypto.Signer)
	if !ok {
		h.estFail(w, r, errors.New("the server's key does not sign"))
		return
	}
	out, sealed, err := enrol.MakeKey(r.Context(), h.s.Estate(), ask, est.By{Signer: signer,
		Certificates: i.TLS.Certificate})
	h.metrics.enrol(template.EST, out, err)
	if err == nil {
		err = h.s.Replaced()
	}
	var leaf []byte
	if err == nil {
		leaf, err = pkcs.WriteSignedData([][]byte{out.Certificate.Raw})
	}
	if err != nil {
		h.estFail(w, r, err)
		return
	}
	h.s.Delivered(*out.Certificate, "")
	m := multipart.NewWriter(w)
	w.Header().Set("Content-Type", "multipart/mixed; boundary="+m.Boundary())
	w.Header().Set("Cache-Control", "no-store")
	for _, part := range []struct {
		kind string
		der  []byte
	}{{"server-generated-key", sealed}, {"certs-only", leaf}} {
		p, err := m.CreatePart(textproto.MIMEHeader{"Content-Type": {"application/pkcs7-mime; smime-type=" + part.kind},
			"Content-Transfer-Encoding": {"base64"}})
		if err != nil {
			return
		}
		_, _ = io.WriteString(p, inLines(part.der))
	}
	_ = m.Close()
}

// waits logs why a request waits for a person.
func (h *Server) waits(out enrol.Outcome) {
	if len(out.Waits) > 0 {
		h.log.Info("a request waits for a person", "request", out.Number, "why", strings.Join(out.Waits, " "))
	}
}

// estFail tells a machine why nothing was done (RFC 7030 section 4.2.3).
func (h *Server) estFail(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, enrol.ErrCredentials) {
		if !h.pace.takes(h.pace.client(r), costOfMiss) {
			w.Header().Set("Retry-After", "60")
			http.Error(w, "too many attempts: try again in a minute", http.StatusTooManyRequests)
			return
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="enrolment code"`)
		http.Error(w, enrol.ErrCredentials.Error(), http.StatusUnauthorized)
		return
	}
	status, why := statusOf(err), runes.Escape(err.Error())
	if errors.Is(err, fault.Refused) {
		status = http.StatusForbidden
	}
	if status >= http.StatusInternalServerError {
		h.log.Error("an enrolment failed", "error", err)
		w.Header().Set("Retry-After", retryAfter)
		status, why = http.StatusServiceUnavailable, "the server cannot do this at the moment"
	}
	http.Error(w, why, status)
}
