package desk

// The pages of the desk.

import (
	"bytes"
	"embed"
	"html/template"
	"log/slog"
	"net/http"

	"briskwarden.example/briskwarden/signon"
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
}

// ID is the flow's; the template asks for it.
func (f *flow) ID() string { return f.id }

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
	mux.HandleFunc("GET /sign-out", func(w http.ResponseWriter, r *http.Request) {
		d.show(w, http.StatusOK, "sign-out", page{Title: "Sign out?", SignedOn: d.signedOnAs(w, r)})
	})
	mux.HandleFunc("POST /sign-out", d.signedOut)
	for path, do := range map[string]step{
		"GET /flow/{flow}": d.next, "POST /flow/{flow}/identify": d.identify, "POST /flow/{flow}/choose": d.choose, "POST /flow/{flow}/give/{method}": d.give,
		"POST /flow/{flow}/change": d.change, "POST /flow/{flow}/enrol": d.beginEnrolment, "POST /flow/{flow}/code": d.newCode, "POST /flow/{flow}/leave": d.leave,
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

func (d *Desk) signedOut(w http.ResponseWriter, r *http.Request) {
	b, done := d.lockedBrowser(w, r)
	defer done()
	if !d.signOut(r.Context(), w, b) {
		d.show(w, http.StatusServiceUnavailable, "over", page{Title: "You are signed out here", Text: "The service that decides does not answer. The desk tells it as soon as it does; until then other sites may still let you in."})
		return
	}
	d.show(w, http.StatusOK, "over", page{Title: "You are signed out", Text: "Here, and of everything that you had signed on to in this session."})
}

// account is where people see to how they prove who they are.
type account struct{ *Desk }

// accountApp is the app that whoever may see to it signs on to.
const accountApp = "noticeboard"

func (a *account) question() (app, address string) { return accountApp, "" }
func (a *account) onDevice() bool                  { return true }
func (a *account) name() string                    { return "how you sign on" }

func (a *account) finish(w http.ResponseWriter, _ *http.Request, f *flow, b *browser, _ signon.Decision) {
	p := page{Title: "How you sign on", Flow: f, SignedOn: b.user, Failed: f.fault()}
	for _, m := range enrollable {
		if a.Vault.Has(b.user, m) {
			p.Points = append(p.Points, nameOf(m))
		}
		p.Choices = append(p.Choices, choice{[]string{m}, nameOf(m), m})
	}
	a.show(w, http.StatusOK, "methods", p)
}
