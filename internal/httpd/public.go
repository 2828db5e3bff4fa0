package httpd

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"ironseal/internal/app/revoke/responding"
	"ironseal/internal/app/revoke/serving"
	"ironseal/pki/ocsp"
)

// Public serves what is for everybody.
func (h *Server) Public() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /roots", h.roots)
	mux.HandleFunc("GET /roots/{file}", h.root)
	mux.HandleFunc("GET /kits/{file}", h.kit)
	mux.HandleFunc("GET /style.css", style)
	mux.HandleFunc("GET /{$}", h.front)
	mux.HandleFunc(scepAt, h.scep)
	mux.HandleFunc("/", h.file)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// The router would redirect a GET of which the base64 has two slashes in a row.
		if asked, isOCSP := h.askedFor(w, r); isOCSP {
			r.Pattern = "ocsp"
			h.ocsp(w, r, asked)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// ocspPaths are where OCSP is asked: at the address that certificates name, and always at /ocsp.
func (h *Server) ocspPaths() []string {
	named := h.s.Estate().Settings.Publication.OCSP
	if known := h.paths.Load(); known != nil && known.named == named {
		return known.paths
	}
	out := []string{"/ocsp"}
	if u, err := url.Parse(named); err == nil && u.Host != "" {
		if p := strings.TrimSuffix(u.Path, "/"); p != "/ocsp" {
			out = append(out, p)
		}
	}
	h.paths.Store(&ocspPaths{named, out})
	return out
}

// ocspPaths are the paths for an address in the settings.
type ocspPaths struct {
	named string
	paths []string
}

// askedFor takes the OCSP request out of an HTTP request (RFC 6960 appendix A). A request that cannot be read is
// empty, which is malformed.
func (h *Server) askedFor(w http.ResponseWriter, r *http.Request) (asked []byte, isOCSP bool) {
	raw := r.URL.EscapedPath()
	for _, at := range h.ocspPaths() {
		switch {
		case r.Method == http.MethodPost && strings.TrimSuffix(raw, "/") == at:
			body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostOCSP))
			if err != nil {
				return nil, true
			}
			return body, true
		case r.Method == http.MethodGet || r.Method == http.MethodHead:
			text, ok := strings.CutPrefix(raw, at+"/")
			if !ok || text == "" || at == "" && !likeOCSP(text) {
				continue
			}
			return decoded(text), true
		}
	}
	return nil, false
}

// likeOCSP reports whether a path is a request rather than a file's name: where OCSP is asked at the root of the
// server, both stand at the same place. A request is a DER SEQUENCE, and the first letter of its base64 is M.
func likeOCSP(text string) bool {
	return len(text) > 40 && text[0] == 'M' && !strings.Contains(text, ".")
}

// decoded decodes a request in a path: base64, percent-encoded. Some clients leave the padding out.
func decoded(text string) []byte {
	if len(text) > mostGetPath {
		return nil
	}
	text, err := url.PathUnescape(text)
	if err != nil {
		return nil
	}
	der, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(text, "="))
	if err != nil {
		return nil
	}
	return der
}

// ocsp answers an OCSP request. Whatever was sent, the answer is one of the protocol.
func (h *Server) ocsp(w http.ResponseWriter, r *http.Request, asked []byte) {
	begun := time.Now()
	told := h.s.Answer(r.Context(), asked)
	h.metrics.answer(told, time.Since(begun))
	head := w.Header()
	head.Set("Content-Type", "application/ocsp-response")
	now := h.s.Estate().Now()
	if left := told.Next.
		Sub(now); told.Status == ocsp.Successful && !told.Once && left > 0 && r.Method != http.MethodPost {
		head.Set("Cache-Control", "max-age="+strconv.Itoa(int(left/time.Second)-1)+
			", public, no-transform, must-revalidate") // RFC 5019 section 6.2: less than to the next update
		head.Set("Expires", told.Next.UTC().Format(http.TimeFormat))
		head.Set("ETag", answerTag(told))
		content(w, r, told.This, told.DER)
		return
	}
	head.Set("Cache-Control", "no-store")
	head.Set("Content-Length", fmt.Sprint(len(told.DER)))
	if r.Method != http.MethodHead {
		_, _ = w.Write(told.DER)
	}
}

// answerTag names an answer for caches: signatures differ, so its end does.
func answerTag(t responding.Told) string {
	return `"` + hex.EncodeToString(t.DER[max(len(t.DER)-16, 0):]) + `"`
}

// mediaTypes are those of RFC 2585, RFC 5273 and RFC 8555.
var mediaTypes = map[string]string{".crl": "application/pkix-crl", ".cer": "application/pkix-cert",
	".p7c": "application/pkcs7-mime; smime-type=certs-only", ".pem": "application/x-pem-file"}

// file serves a list or the certificate of an authority. Its name is the last part of the path: certificates that
// were signed before the address changed name another folder.
func (h *Server) file(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "only GET and HEAD are served here", http.StatusMethodNotAllowed)
		return
	}
	f, ok := h.s.Public().Find(path.Base(r.URL.Path))
	if !ok {
		http.Error(w, "there is no such file", http.StatusNotFound)
		return
	}
	h.serveFile(w, r, f)
}

func (h *Server) serveFile(w http.ResponseWriter, r *http.Request, f *serving.File) {
	head := w.Header()
	head.Set("Content-Type", mediaTypes[path.Ext(f.Name)])
	head.Set("ETag", `"`+f.Tag+`"`)
	age := 24 * time.Hour // of certificates, which stay as they are
	if !f.Next.IsZero() {
		age = min(max(f.Next.Sub(h.s.Estate().Now()), 0), mostAge)
	}
	head.Set("Cache-Control", "public, max-age="+strconv.Itoa(int(age/time.Second)))
	if len(f.Data) > slowest { // a slow client gets its time, and holds nothing but its connection
		_ = http.NewResponseController(w).SetWriteDeadline(time.Now().Add(answerTime +
			time.Duration(len(f.Data)/slowest)*time.Second))
	}
	content(w, r, f.Modified, f.Data)
}

// content serves bytes. What asks for a part, or for news only, is left to the standard library.
func content(w http.ResponseWriter, r *http.Request, modified time.Time, data []byte) {
	for _, special := range []string{"Range", "If-None-Match", "If-Modified-Since", "If-Match", "If-Unmodified-Since"} {
		if len(r.Header[special]) > 0 {
			http.ServeContent(w, r, "", modified, bytes.NewReader(data))
			return
		}
	}
	head := w.Header()
	head.Set("Accept-Ranges", "bytes")
	head.Set("Last-Modified", modified.UTC().Format(http.TimeFormat))
	head.Set("Content-Length", strconv.Itoa(len(data)))
	if r.Method != http.MethodHead {
		_, _ = w.Write(data)
	}
}

// mostAge is how long a list is kept by caches at most: one that revokes more should be seen on the same day.
const mostAge = time.Hour
