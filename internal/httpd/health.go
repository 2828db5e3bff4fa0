package httpd

import (
	"fmt"
	"net/http"

	"ironseal/pki/runes"
)

// Health serves what operators and their programs ask.
func (h *Server) Health() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", h.healthz)
	mux.HandleFunc("GET /readyz", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ready") })
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", figuresType)
		_ = h.metrics.write(r.Context(), w) // who asked is gone
	})
	return mux
}

// healthz says in sentences what is wrong: status 200 if nothing is, else 503.
func (h *Server) healthz(w http.ResponseWriter, r *http.Request) {
	told := h.s.State(r.Context())
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	if len(told.Bad) > 0 {
		w.WriteHeader(http.StatusServiceUnavailable)
	}
	for _, line := range told.Bad {
		fmt.Fprintln(w, "bad: "+runes.Escape(line))
	}
	for _, line := range told.Notes {
		fmt.Fprintln(w, "note: "+runes.Escape(line))
	}
	if len(told.Bad) == 0 {
		fmt.Fprintln(w, "ok")
	}
}
