package httpd

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"strings"

	"ironseal/internal/app/ops/service"
	"ironseal/internal/app/requests/enrol"
	"ironseal/pki/fault"
	"ironseal/pki/pkcs"
	"ironseal/pki/runes"
	"ironseal/pki/scep"
	"ironseal/pki/template"
)

// scepAt begins the paths of SCEP (RFC 8894 section 4.1). What follows the label is of no account: devices add names of
// programs that others have there.
const scepAt = "/scep/"

// scep serves SCEP. Messages are sealed and signed themselves, so it is served over plain HTTP too: many devices know
// no
// authority to verify a server by before they have enrolled.
func (h *Server) scep(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	label, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, scepAt), "/")
	t, err := h.s.Estate().Template(label)
	if err != nil || !t.Unattended.Allows(template.SCEP) {
		http.Error(w, "no machine enrols by SCEP here", http.StatusNotFound)
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodPost {
		http.Error(w, "SCEP is asked by GET and POST", http.StatusMethodNotAllowed)
		return
	}
	operation := r.URL.Query().Get("operation")
	if operation == "GetCACaps" {
		w.Header().Set("Content-Type", "text/plain")
		_, _ = io.WriteString(w, capabilities(t.Unattended.Older))
		return
	}
	by := h.s.Registration(t.Unattended.Authority)
	if by == nil {
		w.Header().Set("Retry-After", retryAfter)
		http.Error(w, "the registration certificate is not signed yet", http.StatusServiceUnavailable)
		return
	}
	switch operation {
	case "GetCACert":
		h.scepCertificates(w, r, "application/x-x509-ca-ra-cert", append([][]byte{by.Certificate.Raw}, by.Line...))
	case "GetNextCACert":
		h.scepNext(w, r, t, by)
	case "PKIOperation":
		h.scepMessage(w, r, t, by)
	default:
		http.Error(w, "the operation is not known here (RFC 8894 section 4.1)", http.StatusBadRequest)
	}
}

// capabilities are what a device may use (RFC 8894 section 3.5.2).
func capabilities(older bool) string {
	list := []string{"AES", "SHA-256", "SHA-512", "POSTPKIOperation", "Renewal", "GetNextCACert", "SCEPStandard"}
	if older {
		list = append(list, "DES3", "SHA-1")
	}
	return strings.Join(list, "\n") + "\n"
}

func (h *Server) scepCertificates(w http.ResponseWriter, r *http.Request, kind string, list [][]byte) {
	der, err := pkcs.WriteSignedData(list)
	if err != nil {
		h.scepFail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", kind)
	_, _ = w.Write(der)
}

// scepNext hands out the certificates of the prepared generation, signed by the registration key.
func (h *Server) scepNext(w http.ResponseWriter, r *http.Request, t template.Template, by *service.Registration) {
	e := h.s.Estate()
	hierarchy, err := e.Hierarchy(r.Context())
	if err != nil {
		h.scepFail(w, r, err)
		return
	}
	next := enrol.Next(hierarchy, t.Unattended.Authority)
	if next == nil {
		http.Error(w, "no next authority is prepared", http.StatusNotFound)
		return
	}
	inner, err := pkcs.WriteSignedData(next)
	if err == nil {
		inner, err = pkcs.Draft{Content: inner, Certificates: [][]byte{by.Certificate.Raw}, When: e.Now(),
			RSA: true}.Sign(by.Key, rand.Reader)
	}
	if err != nil {
		h.scepFail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-x509-next-ca-cert")
	_, _ = w.Write(inner)
}

// scepBody is the message of a request.
func scepBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	if r.Method == http.MethodPost {
		return io.ReadAll(http.MaxBytesReader(w, r.Body, scep.Most))
	}
	text := strings.ReplaceAll(r.URL.Query().Get("message"), " ", "+") // some write base64 without escaping it
	return base64.StdEncoding.DecodeString(text)
}

// scepMessage answers a message.
func (h *Server) scepMessage(w http.ResponseWriter, r *http.Request, t template.Template, by *service.Registration) {
	body, err := scepBody(w, r)
	if err != nil {
		http.Error(w, "the message is too large, or did not come whole", http.StatusBadRequest)
		return
	}
	m, err := scep.Read(body, t.Unattended.Older)
	if errors.Is(err, scep.ErrUnsigned) { // an answer costs a signature, and is for those who sign theirs
		http.Error(w, runes.Escape(err.Error()), http.StatusBadRequest)
		return
	}
	var got enrol.Answered
	var content []byte
	if err == nil {
		content, err = m.Open(by.Certificate, by.Key, rand.Reader)
	}
	if err == nil {
		got, err = enrol.Device{Label: t.Name, Message: m, Content: content, Unlocked: h.s.Unlocked,
			List: h.listInForce}.Serve(r.Context(), h.s.Estate())
		clear(content)
	}
	if err == nil {
		err = h.s.Replaced()
	}
	if fail, known := errors.AsType[scep.Fail](err); known {
		got.Answer, got.Why, err = scep.Answer{Status: scep.Failure, Fail: fail}, err, nil
	}
	if err != nil {
		h.scepFail(w, r, err)
		return
	}
	if errors.Is(got.Why, enrol.ErrCredentials) && !h.pace.takes(h.pace.client(r), costOfMiss) {
		w.Header().Set("Retry-After", "60")
		http.Error(w, "too many attempts: try again in a minute", http.StatusTooManyRequests)
		return
	}
	if got.Number != "" || m.Type == scep.PKCSReq || m.Type == scep.RenewalReq {
		h.metrics.enrol(template.SCEP, got.Outcome, got.Why)
	}
	if got.Why != nil {
		h.log.Info("a message of SCEP failed", "template", t.Name, "why", runes.Escape(got.Why.Error()))
	}
	h.waits(got.Outcome)
	out, err := m.Answer(got.Answer, by.Authority, h.s.Estate().Now(), rand.Reader)
	if err != nil {
		h.scepFail(w, r, err)
		return
	}
	if got.Certificate != nil && got.Status == scep.Success {
		h.s.Delivered(*got.Certificate, "")
	}
	w.Header().Set("Content-Type", "application/x-pki-message")
	_, _ = w.Write(out)
}

// listInForce is a list that clients find here.
func (h *Server) listInForce(file string) []byte {
	f, there := h.s.Public().Find(file)
	if !there {
		return nil
	}
	return f.Data
}

// scepFail answers what is no fault of the device.
func (h *Server) scepFail(w http.ResponseWriter, r *http.Request, err error) {
	status := statusOf(err)
	if status >= http.StatusInternalServerError || errors.Is(err, fault.Changed) {
		h.log.Error("an enrolment failed", "what", whatAsked(r), "error", err)
		w.Header().Set("Retry-After", retryAfter)
		http.Error(w, "the server cannot do this at the moment", http.StatusServiceUnavailable)
		return
	}
	http.Error(w, runes.Escape(err.Error()), status)
}
