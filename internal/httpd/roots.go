package httpd

import (
	"context"
	"fmt"
	"net/http"
	"path"
	"strings"
	"sync"

	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/pkcs"
	"ironseal/pki/trust"
)

// rootView is one root, as the page shows it.
type rootView struct {
	Title, Fingerprint, CheckCode, Begins, Ends, Stem string
	Suspected                                         string
}

// kits keeps archives that were packed, as long as the records stay the same.
type kits struct {
	mu    sync.Mutex
	state any // the roots from which they were packed
	files map[string][]byte
}

// mostKits is how many archives are kept.
const mostKits = 64

// rootStem begins the names of a root's files.
func rootStem(c *cert.Certificate) string {
	sum := c.SHA256()
	return fmt.Sprintf("%s.%x", label.FileName(c.Title()), sum[:4])
}

func viewRoot(a trust.Anchor) rootView {
	sum := a.Certificate.SHA256()
	return rootView{Title: a.Certificate.Title(), Fingerprint: label.Colons(sum[:]),
		CheckCode: label.CheckCode(a.Certificate.Raw), Begins: a.Certificate.NotBefore.Format("2006-01-02"),
		Ends: a.Certificate.NotAfter.Format("2006-01-02"), Stem: rootStem(a.Certificate), Suspected: a.Compromise}
}

// front is the first page of the public server.
func (h *Server) front(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "/roots", http.StatusSeeOther)
}

// roots lists the roots, and the kits that bring them onto machines.
func (h *Server) roots(w http.ResponseWriter, r *http.Request) {
	e := h.s.Estate()
	set, err := anchors.Set(r.Context(), e, trust.Own)
	if err != nil {
		h.fail(w, r, err)
		return
	}
	page := struct {
		frame
		Roots     []rootView
		Platforms []platformView
	}{frame: h.frame("Roots of "+e.Settings.Organisation.Name, "")}
	for _, a := range set.Anchors {
		page.Roots = append(page.Roots, viewRoot(a))
	}
	for _, name := range anchors.PlatformNames(e) {
		if p, err := anchors.Platform(e, name); err == nil {
			page.Platforms = append(page.Platforms, platformView{Name: name, Title: p.Title})
		}
	}
	h.render(w, http.StatusOK, "roots", page)
}

type platformView struct{ Name, Title string }

// root serves one root in one format.
func (h *Server) root(w http.ResponseWriter, r *http.Request) {
	set, err := anchors.Set(r.Context(), h.s.Estate(), trust.Own)
	if err != nil {
		h.fail(w, r, err)
		return
	}
	file := r.PathValue("file")
	for _, a := range set.Anchors {
		ext, ok := strings.CutPrefix(file, rootStem(a.Certificate))
		if !ok {
			continue
		}
		switch ext {
		case ".pem":
			h.download(w, r, file, "application/x-pem-file", bundle.PEM(bundle.Certificate, a.Certificate.Raw))
		case ".cer":
			h.download(w, r, file, "application/pkix-cert", a.Certificate.Raw)
		case ".p7b":
			der, err := pkcs.WriteSignedData([][]byte{a.Certificate.Raw})
			if err != nil {
				h.fail(w, r, err)
				return
			}
			h.download(w, r, file, "application/pkcs7-mime", der)
		default:
			continue
		}
		return
	}
	http.Error(w, "there is no such file", http.StatusNotFound)
}

// kit serves a kit of the estate's own roots, as one file.
func (h *Server) kit(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("file")
	for _, form := range kit.Archives() {
		platform, ok := strings.CutSuffix(name, "."+form)
		if !ok {
			continue
		}
		platform, ok = strings.CutPrefix(platform, trust.Own+".")
		if !ok {
			break
		}
		data, err := h.packed(r.Context(), platform, form)
		if err != nil {
			h.fail(w, r, err)
			return
		}
		media := map[string]string{"zip": "application/zip", "tar.gz": "application/gzip"}[form]
		h.download(w, r, name, media, data)
		return
	}
	http.Error(w, "there is no such file", http.StatusNotFound)
}

// packed packs a kit, or gives the one that is kept.
func (h *Server) packed(ctx context.Context, platform, form string) ([]byte, error) {
	e := h.s.Estate()
	set, err := anchors.Set(ctx, e, trust.Own)
	if err != nil {
		return nil, err
	}
	state := stateOf(e, set)
	h.kits.mu.Lock()
	defer h.kits.mu.Unlock()
	if h.kits.state != state || len(h.kits.files) > mostKits {
		h.kits.state, h.kits.files = state, map[string][]byte{}
	}
	name := platform + "." + form
	if data, kept := h.kits.files[name]; kept {
		return data, nil
	}
	data, err := anchors.ArchiveOf(e, set, platform, form)
	if err != nil {
		return nil, err
	}
	h.kits.files[name] = data
	return data, nil
}

// stateOf is a text that differs where kits would.
func stateOf(e *estate.Estate, set trust.Set) string {
	out := e.Settings.Organisation.Name
	for _, a := range set.Anchors {
		out += fmt.Sprintf(" %x %q", a.Certificate.SHA256(), a.Compromise)
	}
	return out
}

// download serves bytes as a file of a name.
func (h *Server) download(w http.ResponseWriter, r *http.Request, name, media string, data []byte) {
	head := w.Header()
	head.Set("Content-Type", media)
	head.Set("X-Content-Type-Options", "nosniff")
	head.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", label.FileName(path.Base(name))))
	head.Set("Content-Length", fmt.Sprint(len(data)))
	if r.Method != http.MethodHead {
		_, _ = w.Write(data)
	}
}
