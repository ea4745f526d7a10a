package desk

// The pages of the desk.

import (
	"bytes"
	"embed"
	"html/template"
	"log/slog"
	"net/http"
	"net/url"
)

//go:embed pages
var files embed.FS

var templates = template.Must(template.ParseFS(files, "pages/*.html"))

// page is what a page shows.
type page struct {
	Title     string
	Text      string
	Failed    string // what went wrong at the last step
	Flow      *flow
	To        string // where the person is going
	User      string
	Choices   []choice
	Points    []string
	Method    string
	IsKey     bool
	More      bool // there is another way
	Secret    string
	Codes     []string
	Contact   string
	Reference string
	Publisher string
	Verified  bool
	Asked     []askedFor
	Back      string // where a link leads to
	SignedOn  string
	Yes       string // what the button says that agrees
	Unnamed   bool   // it is about a device that was not named
	Methods   []held
	Devices   []held
	Sessions  []held
	Leaving   url.Values // what leads on after signing out
}

// ID is the flow's; the template asks for it, and for who goes through it.
func (f *flow) ID() string { return f.id }

// Who is the person that a flow is about; empty is nobody yet.
func (f *flow) Who() string { return f.user }

// Acting reports that something can be left: a change of how somebody signs on, or setting up what was asked for.
func (f *flow) Acting() bool { return f.act != nil || f.enrol != "" }

// show shows a page.
func (d *Desk) show(w http.ResponseWriter, status int, name string, p page) {
	var b bytes.Buffer
	if err := templates.ExecuteTemplate(&b, name, p); err != nil {
		d.Log.Error("a page cannot be shown", slog.Any("error", err))
		http.Error(w, "The page cannot be shown.", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes())
}

// pages has what the desk shows to people.
func (d *Desk) pages(mux *http.ServeMux) {
	mux.HandleFunc("GET /{$}", d.home)
	mux.HandleFunc("GET /sign-on", d.signOnFor)
	mux.HandleFunc("GET /signed-on", d.signedOnAt)
	mux.HandleFunc("GET /methods", func(w http.ResponseWriter, r *http.Request) { d.begin(w, r, &account{d}, false) })
	mux.HandleFunc("GET /sign-out", d.leaves)
	mux.HandleFunc("POST /sign-out", d.signedOut)
	for path, do := range map[string]step{
		"GET /flow/{flow}": d.next, "POST /flow/{flow}/identify": d.identify, "POST /flow/{flow}/choose": d.choose, "POST /flow/{flow}/give/{method}": d.give,
		"POST /flow/{flow}/change": d.change, "POST /flow/{flow}/enrol": d.begins, "POST /flow/{flow}/sure": d.confirms, "POST /flow/{flow}/cancel": d.cancels,
		"POST /flow/{flow}/end": d.ends, "POST /flow/{flow}/other": d.other, "GET /flow/{flow}/qr.png": d.qr, "POST /flow/{flow}/passkey-options": d.passkeyOptions, "POST /flow/{flow}/passkey": d.passkeyGiven,
		"POST /flow/{flow}/code": d.newCode, "POST /flow/{flow}/leave": d.leave,
		"POST /flow/{flow}/allow": d.allow, "POST /flow/{flow}/key-options/{method}": d.keyOptions, "POST /flow/{flow}/key/{method}": d.keyGiven,
		"POST /flow/{flow}/new-key-options": d.newKeyOptions, "POST /flow/{flow}/new-key": d.newKey,
	} {
		mux.HandleFunc(path, d.in(do))
	}
	for name, media := range map[string]string{"desk.css": "text/css; charset=utf-8", "keys.js": "text/javascript; charset=utf-8"} {
		mux.HandleFunc("GET /"+name, func(w http.ResponseWriter, _ *http.Request) {
			data, err := files.ReadFile("pages/" + name)
			if err != nil {
				http.Error(w, "not found", http.StatusNotFound)
				return
			}
			w.Header().Set("Content-Type", media)
			_, _ = w.Write(data)
		})
	}
}

func (d *Desk) home(w http.ResponseWriter, r *http.Request) {
	d.show(w, http.StatusOK, "home", page{Title: "The sign-on desk of Skerry Line", SignedOn: d.signedOnAs(w, r)})
}

// signedOnAs is who is signed on in a browser; empty is nobody.
func (d *Desk) signedOnAs(w http.ResponseWriter, r *http.Request) string {
	b, done := d.lockedBrowser(w, r)
	defer done()
	return b.user
}
