package httpd

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/desk"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/describe"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/label"
)

// Desk serves people who ask for certificates.
func (h *Server) Desk() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", h.deskForm)
	mux.HandleFunc("POST /read", h.deskRead)
	mux.HandleFunc("POST /hand-in", h.deskHandIn)
	mux.HandleFunc("GET /invited/{secret}", h.deskInvited)
	mux.HandleFunc("GET /request/{secret}", h.deskRequest)
	mux.HandleFunc("GET /request/{secret}/renew", h.deskRenew)
	mux.HandleFunc("GET /request/{secret}/{file}", h.deskFetch)
	mux.HandleFunc("GET /request/{secret}/for/{receiver}", h.deskHandover)
	mux.HandleFunc("GET /request/{secret}/for/{receiver}/{file}", h.deskHandover)
	mux.HandleFunc("GET /style.css", style)
	mux.HandleFunc("GET /roots", h.roots)
	mux.HandleFunc("GET /roots/{file}", h.root)
	mux.HandleFunc("GET /kits/{file}", h.kit)
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		h.fail(w, r, fault.New(fault.NotFound, "There is no such page."))
	})
	return mux
}

// formView is the page with the form.
type formView struct {
	frame
	desk.Choices
	Filled     desk.Submission
	Text       string
	Wrong      string // why what was sent cannot be taken
	Closed     string
	Invitation *desk.Invitation
	Renews     string // the number of the earlier request
}

func (h *Server) form(e *estate.Estate, s desk.Submission) formView {
	return formView{frame: h.frame("Ask for a certificate", ""), Choices: desk.Offered(e, nil), Filled: s,
		Text: string(s.Data)}
}

func (h *Server) deskForm(w http.ResponseWriter, _ *http.Request) {
	e := h.s.Estate()
	page := h.form(e, desk.Submission{})
	if err := desk.Open(e); err != nil {
		page.Closed = err.Error()
	}
	h.render(w, http.StatusOK, "form", page)
}

// deskInvited is the page of a person who was invited.
func (h *Server) deskInvited(w http.ResponseWriter, r *http.Request) {
	if !h.guess(w, r) {
		return
	}
	e, secret := h.s.Estate(), r.PathValue("secret")
	i, err := desk.Invited(r.Context(), e, secret)
	if err != nil {
		h.missed(w, r, err)
		return
	}
	page := h.form(e, desk.Submission{Invitation: secret, From: i.Name})
	h.forInvited(&page, e, i)
	h.render(w, http.StatusOK, "form", page)
}

func (h *Server) forInvited(page *formView, e *estate.Estate, i desk.Invitation) {
	page.Invitation, page.Choices = &i, desk.Offered(e, &i)
	if i.Ended != "" {
		page.Closed = "This invitation holds no more: " + i.Ended + "."
	}
}

// deskRenew is the form for a request in the place of an earlier one.
func (h *Server) deskRenew(w http.ResponseWriter, r *http.Request) {
	held, ok := h.held(w, r)
	if !ok {
		return
	}
	page := h.form(h.s.Estate(), desk.Submission{Renews: r.PathValue("secret"), From: held.Told.From,
		Purpose: held.Told.Purpose, Template: held.Told.Template, Receiver: held.Told.Receiver,
		Names: strings.Join(held.Told.Names, " ")})
	page.Title, page.Renews = "Renew "+held.Number, held.Number
	h.render(w, http.StatusOK, "form", page)
}

// guess slows down whoever tries private addresses: each costs several requests of the address's pace.
func (h *Server) guess(w http.ResponseWriter, r *http.Request) bool {
	if len(r.PathValue("secret")) > 64 {
		h.missed(w, r, fault.New(fault.NotFound, "there is no such page"))
		return false
	}
	return true
}

// costOfMiss is how many requests a private address that does not exist costs.
const costOfMiss = 10

// missed tells that nothing is at a private address.
func (h *Server) missed(w http.ResponseWriter, r *http.Request, err error) {
	if errors.Is(err, fault.NotFound) && !h.pace.takes(h.pace.client(r), costOfMiss) {
		w.Header().Set("Retry-After", "60")
		http.Error(w, "too many addresses that do not exist: try again in a minute", http.StatusTooManyRequests)
		return
	}
	h.fail(w, r, err)
}

// submission reads a form: typed, pasted, or with a file.
func submission(w http.ResponseWriter, r *http.Request) (desk.Submission, error) {
	r.Body = http.MaxBytesReader(w, r.Body, mostForm)
	media, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	switch {
	case err == nil && media == "multipart/form-data":
		err = r.ParseMultipartForm(mostForm) // all of it stays in memory
	case err == nil && media == "application/x-www-form-urlencoded":
		err = r.ParseForm()
	default:
		err = errors.New("the form came in a shape that is not known here")
	}
	var tooLarge *http.MaxBytesError
	if errors.As(err, &tooLarge) {
		return desk.Submission{}, fault.New(fault.BadInput, "this is larger than %d kB, and no request is",
			mostForm>>10)
	}
	if err != nil {
		return desk.Submission{}, fault.New(fault.BadInput, "the form cannot be read: %w", err)
	}
	s := desk.Submission{Data: []byte(r.PostFormValue("request")), From: r.PostFormValue("from"),
		Purpose: r.PostFormValue("purpose"), Template: r.PostFormValue("template"),
		Receiver: r.PostFormValue("receiver"), Names: r.PostFormValue("names"), Invitation: r.
				PostFormValue("invitation"),
		Renews: r.PostFormValue("renews")}
	if f, _, err := r.FormFile("file"); err == nil {
		defer f.Close()
		data, err := io.ReadAll(f)
		if err != nil {
			return s, fault.New(fault.BadInput, "the file cannot be read: %w", err)
		}
		if len(data) > 0 {
			s.Data = data
		}
	}
	return s, nil
}

// previewView is the page that shows what was read.
type previewView struct {
	frame
	Filled     desk.Submission
	PEM        string
	Facts      []describe.Fact
	Findings   finding.List
	CheckCode  string
	Beside     []string
	Template   string // titles of what was chosen
	Receiver   string
	Invitation *desk.Invitation
	Renews     string
}

// deskRead reads a request and shows it. Nothing is recorded.
func (h *Server) deskRead(w http.ResponseWriter, r *http.Request) {
	e := h.s.Estate()
	s, err := submission(w, r)
	if err != nil {
		h.again(w, r, e, s, err)
		return
	}
	p, err := desk.Read(r.Context(), e, s)
	if err != nil {
		h.again(w, r, e, s, err)
		return
	}
	page := previewView{frame: h.frame("Read this before you hand it in", ""), Filled: s,
		PEM: string(bundle.PEM(bundle.Request, p.Request.Raw)), Findings: p.Object.Findings, CheckCode: p.CheckCode,
		Invitation: p.Invitation, Renews: p.Renews}
	for _, f := range p.Object.Facts {
		if !f.Detail && f.Key != "check_code" {
			page.Facts = append(page.Facts, f)
		}
	}
	for _, n := range p.Beside {
		page.Beside = append(page.Beside, n.Value())
	}
	all := desk.Offered(e, nil)
	page.Template, page.Receiver = titleOf(all.Templates, s.Template), titleOf(all.Receivers, s.Receiver)
	h.render(w, http.StatusOK, "preview", page)
}

// titleOf is the title of a choice, by its name; "" where it is none.
func titleOf(list []desk.Choice, name string) string {
	for _, c := range list {
		if c.Name == name {
			return c.Title
		}
	}
	return ""
}

// again shows the form with what was typed, and why it cannot be taken.
func (h *Server) again(w http.ResponseWriter, r *http.Request, e *estate.Estate, s desk.Submission, err error) {
	status := statusOf(err)
	if status >= http.StatusInternalServerError || errors.Is(err, fault.NotFound) {
		h.missed(w, r, err)
		return
	}
	page := h.form(e, s)
	if len(s.Data) > 1<<16 || !isText(s.Data) {
		page.Text = ""
	}
	page.Wrong = sentence(err.Error())
	if s.Invitation != "" {
		if i, err := desk.Invited(r.Context(), e, s.Invitation); err == nil {
			h.forInvited(&page, e, i)
		}
	}
	h.render(w, status, "form", page)
}

// sentence begins a message with a capital letter and ends it with a full stop.
func sentence(message string) string {
	first, size := utf8.DecodeRuneInString(message)
	return string(unicode.ToUpper(first)) + message[size:] + "."
}

func isText(data []byte) bool {
	return !bytes.ContainsFunc(data, func(r rune) bool { return r == 0 || r == 0xfffd })
}

// deskHandIn puts a request on record.
func (h *Server) deskHandIn(w http.ResponseWriter, r *http.Request) {
	e := h.s.Estate()
	s, err := submission(w, r)
	if err != nil {
		h.again(w, r, e, s, err)
		return
	}
	got, err := desk.HandIn(r.Context(), e, s)
	if err == nil {
		err = h.s.Replaced()
	}
	if err != nil {
		h.again(w, r, e, s, err)
		return
	}
	h.log.Info("a request was handed in", "request", got.Number)
	http.Redirect(w, r, "/request/"+got.Secret, http.StatusSeeOther)
}

// held finds the request of a private address, or answers that it does not exist.
func (h *Server) held(w http.ResponseWriter, r *http.Request) (desk.Held, bool) {
	if !h.guess(w, r) {
		return desk.Held{}, false
	}
	held, err := desk.Find(r.Context(), h.s.Estate(), r.PathValue("secret"))
	if err != nil {
		h.missed(w, r, err)
		return held, false
	}
	return held, true
}

// requestView is the page of one request.
type requestView struct {
	frame
	desk.Held
	Secret, Address    string
	State, Reason      string
	Serial, Until, Sum string
	Names              []string
	Unfit              string // why the certificate is not to be used
	Receivers          []desk.Choice
	Receiver           string // title of the one that was asked for
}

func (h *Server) deskRequest(w http.ResponseWriter, r *http.Request) {
	held, ok := h.held(w, r)
	if !ok {
		return
	}
	e := h.s.Estate()
	page := requestView{frame: h.frame(held.Number, held.Request.Title()), Held: held, Secret: r.PathValue("secret"),
		State: string(held.Record.State), Reason: held.Record.Reason}
	page.Address = h.s.Settings().Where() + "/request/" + page.Secret
	if c := held.Certificate; c != nil {
		sum := c.SHA256()
		page.Serial, page.Until, page.Sum = c.SerialHex(), c.NotAfter.Format("2 January 2006"), label.Colons(sum[:])
		for _, n := range c.Names {
			page.Names = append(page.Names, n.Value())
		}
		if err := delivery.Fit(r.Context(), e.Records, *c); err != nil {
			page.Unfit = err.Error()
		}
		page.Receivers = desk.Offered(e, nil).Receivers
	}
	page.Receiver = titleOf(desk.Offered(e, nil).Receivers, held.Told.Receiver)
	h.render(w, http.StatusOK, "request", page)
}

// deskFetch hands out the certificate in one shape.
func (h *Server) deskFetch(w http.ResponseWriter, r *http.Request) {
	held, ok := h.held(w, r)
	if !ok {
		return
	}
	f, err := held.Fetch(r.Context(), h.s.Estate(), r.PathValue("file"))
	if err != nil {
		h.fail(w, r, err)
		return
	}
	h.download(w, r, f.Name, mediaOf(f.Name), f.Data)
}

// mediaOf is the media type of a file that is handed out.
func mediaOf(name string) string {
	for end, media := range map[string]string{".pem": "application/x-pem-file", ".cer": "application/pkix-cert",
		".p7b": "application/pkcs7-mime", ".txt": "text/plain; charset=utf-8"} {
		if strings.HasSuffix(name, end) {
			return media
		}
	}
	return "application/octet-stream"
}

// handoverView is the page that says what to do on a device.
type handoverView struct {
	frame
	Number, CheckCode, Secret, Receiver string
	Files                               []string
	Text                                string
}

// deskHandover shows what to do on a device, and hands out its files: one, or all as a zip archive.
func (h *Server) deskHandover(w http.ResponseWriter, r *http.Request) {
	held, ok := h.held(w, r)
	if !ok {
		return
	}
	files, receiver, err := held.Handover(r.Context(), h.s.Estate(), r.PathValue("receiver"))
	if err != nil {
		h.fail(w, r, err)
		return
	}
	stem := label.FileName(held.Request.Title()) + "." + receiver.Name
	if want := r.PathValue("file"); want == "all.zip" {
		data, err := zipped(stem, files, held.Certificate.NotBefore)
		if err != nil {
			h.fail(w, r, err)
			return
		}
		h.download(w, r, stem+".zip", "application/zip", data)
		return
	} else if want != "" {
		for _, f := range files {
			if f.Name == want {
				h.download(w, r, f.Name, mediaOf(f.Name), f.Data)
				return
			}
		}
		h.fail(w, r, fault.New(fault.NotFound, "There is no such file."))
		return
	}
	page := handoverView{frame: h.frame(receiver.Title, held.Request.Title()), Number: held.Number,
		CheckCode: held.CheckCode, Secret: r.PathValue("secret"), Receiver: receiver.Name}
	for _, f := range files {
		if f.Name == delivery.ReadMeFile {
			page.Text = string(f.Data)
			continue
		}
		page.Files = append(page.Files, f.Name)
	}
	h.render(w, http.StatusOK, "handover", page)
}

// zipped packs files into one, with a fixed time: the same files give the same bytes.
func zipped(folder string, files []delivery.File, at time.Time) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: folder + "/" + f.Name, Method: zip.Deflate, Modified: at.UTC()})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		if _, err := w.Write(f.Data); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
