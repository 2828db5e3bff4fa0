package httpd

import (
	"bytes"
	"embed"
	"errors"
	"html/template"
	"net/http"
	"strings"
	"sync"

	"ironseal/pki/fault"
	"ironseal/pki/runes"
)

//go:embed pages
var pageFiles embed.FS

// pages are the templates, parsed at the first use. html/template escapes by place, and "plain" makes what is not
// shown visible: a text stays text, and no character reorders a line.
var pages = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("").Funcs(template.FuncMap{"plain": runes.Escape, "lines": escapedLines}).
		ParseFS(pageFiles,
			"pages/*.html"))
})

// escapedLines is plain for a text of several lines.
func escapedLines(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(runes.Escape(strings.TrimRight(line, "\r\n")) + "\n")
	}
	return b.String()
}

// frame is what every page has.
type frame struct {
	Title, Subtitle, Owner string
}

func (h *Server) frame(title, subtitle string) frame {
	return frame{Title: title, Subtitle: subtitle, Owner: h.s.Estate().Settings.Organisation.Name}
}

// policy lets a page load its own style sheet and send forms to its own server, and nothing else.
const policy = "default-src 'none'; style-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"

// render writes a page.
func (h *Server) render(w http.ResponseWriter, status int, name string, page any) {
	var b bytes.Buffer
	if err := pages().ExecuteTemplate(&b, name+".html", page); err != nil {
		h.log.Error("a page cannot be made", "page", name, "error", err)
		http.Error(w, "internal error", http.StatusInternalServerError)
		return
	}
	head := w.Header()
	head.Set("Content-Type", "text/html; charset=utf-8")
	head.Set("Content-Security-Policy", policy)
	head.Set("Referrer-Policy", "no-referrer")
	head.Set("X-Content-Type-Options", "nosniff")
	head.Set("Cache-Control", "no-store")
	head.Set("X-Frame-Options", "DENY")
	head.Set("Cross-Origin-Opener-Policy", "same-origin")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}

// statusOf is the HTTP status for a failure.
func statusOf(err error) int {
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return http.StatusRequestEntityTooLarge
	case errors.Is(err, fault.NotFound):
		return http.StatusNotFound
	case errors.Is(err, fault.Refused), errors.Is(err, fault.Changed):
		return http.StatusConflict
	case errors.Is(err, fault.BadInput):
		return http.StatusBadRequest
	case errors.Is(err, fault.Busy), errors.Is(err, fault.Unavailable):
		return http.StatusServiceUnavailable
	}
	return http.StatusInternalServerError
}

// fail shows why something cannot be done. What went wrong inside is for the log alone.
func (h *Server) fail(w http.ResponseWriter, r *http.Request, err error) {
	status := statusOf(err)
	page := struct {
		frame
		Why string
	}{h.frame("This cannot be done", ""), err.Error()}
	if status >= http.StatusInternalServerError { // why is nothing for strangers: it may name files
		h.log.Error("an act failed", "what", whatAsked(r), "error", err)
		status, page.Why = http.StatusServiceUnavailable, "The server cannot do this at the moment. Try again later."
		w.Header().Set("Retry-After", "60")
	}
	h.render(w, status, "message", page)
}

// style serves the style sheet.
func style(w http.ResponseWriter, r *http.Request) {
	data, err := pageFiles.ReadFile("pages/style.css")
	if err != nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/css; charset=utf-8")
	w.Header().Set("Cache-Control", "max-age=3600")
	_, _ = w.Write(data)
}
