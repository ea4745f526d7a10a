package main

// The sites, and the gateway before them.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"text/template"
	"time"
)

// site is a site behind the gateway. It believes the gateway who somebody is.
func (h *harbour) site(w http.ResponseWriter, r *http.Request) {
	host, _, _ := strings.Cut(r.Host, ":")
	name := map[string]string{newsHost: "The noticeboard", rosterHost: "Who sails when", berthsHost: "Which ferry lies where"}[host]
	if host == rosterHost && strings.HasPrefix(r.URL.Path, "/admin") {
		name = "Who may change the roster"
	}
	if name == "" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = templates.ExecuteTemplate(w, "site", map[string]string{"Name": name, "User": r.Header.Get("Remote-User"), "Token": told(r), "SignOut": h.url(deskHost, "front") + "/sign-out?return=" + url.QueryEscape(h.url(host, "sites")+"/"), "Home": h.url(domain, "front")})
}

// told is what a site was told that it does not need.
func told(r *http.Request) string {
	if r.Header.Get("Authorization") != "" || len(r.CookiesNamed(sessionCookie)) > 0 {
		return "The person's token reached the site."
	}
	return ""
}

// openSites opens the sites behind a gateway, and the front.
func (h *harbour) openSites() error {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	h.serve(inner, http.HandlerFunc(h.site))
	front := http.NewServeMux()
	front.HandleFunc("GET "+domain+"/{$}", h.home)
	front.HandleFunc("POST "+domain+"/{$}", h.choose)
	front.HandleFunc("GET "+domain+"/pocket", h.pocket)
	front.Handle(deskHost+"/", h.desk)
	front.Handle(plannerHost+"/", h.planner)
	front.Handle(notesHost+"/", h.notes)
	front.HandleFunc("POST /signed-out/{client}", h.signedOut)
	h.serve(h.listens["front"], front)
	if nginx := installed("nginx"); h.nginx && nginx != "" {
		return h.startNginx(nginx, inner.Addr().String())
	}
	h.behind = "a small gateway of the example"
	h.serve(h.listens["sites"], &gateway{h, "http://" + inner.Addr().String()})
	return nil
}

// installed finds a program of the system; empty is that there is none.
func installed(program string) string {
	for _, name := range []string{program, "/usr/sbin/" + program} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// gateway stands before the sites where there is no nginx: it asks the service, as nginx does.
type gateway struct {
	*harbour
	inner string
}

func (g *gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, _ := strings.Cut(r.Host, ":")
	if g.desk.Sites[g.url(host, "sites")].Name == "" {
		panic(http.ErrAbortHandler) // a host that is no site gets no answer
	}
	for name := range r.Header { // that a visitor may not say; some servers read "_" as "-"
		switch plain := strings.ToLower(strings.ReplaceAll(name, "_", "-")); {
		case slices.Contains([]string{"remote-user", "caller-token", "asked-url", "asked-method", "asked-site", "forwarded", "x-original-url", "x-rewrite-url"}, plain), strings.HasPrefix(plain, "x-forwarded-"):
			delete(r.Header, name)
		}
	}
	switch {
	case r.URL.Path == "/signed-on":
		g.pass(w, r, "http://"+g.listens["front"].Addr().String()+"/signed-on?"+r.URL.RawQuery, deskHost, http.Header{"Asked-Site": {g.url(host, "sites")}})
		return
	case whyPath.MatchString(r.URL.Path):
		g.pass(w, r, "http://"+g.listens["service"].Addr().String()+r.URL.Path, "", nil)
		return
	}
	q, err := http.NewRequestWithContext(r.Context(), http.MethodGet, "http://"+g.listens["service"].Addr().String()+"/forward/v1", nil)
	if err != nil {
		http.Error(w, "no gateway", http.StatusInternalServerError)
		return
	}
	for _, name := range []string{"Authorization", "Cookie"} {
		q.Header[name] = r.Header[name]
	}
	q.Header.Set("Caller-Token", g.token("gate"))
	q.Header.Set("Asked-URL", g.url(host, "sites")+r.RequestURI)
	q.Header.Set("Asked-Method", r.Method)
	q.Header.Set("X-Forwarded-For", addressOf(r).String())
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		http.Error(w, "Nobody can be let in just now.", http.StatusBadGateway)
		return
	}
	answer.Body.Close()
	switch answer.StatusCode {
	case http.StatusNoContent:
		delete(r.Header, "Authorization")
		withoutCookie(r.Header, sessionCookie)
		g.pass(w, r, g.inner+r.RequestURI, r.Host, http.Header{"Remote-User": answer.Header["Remote-User"]})
	case http.StatusUnauthorized:
		http.Redirect(w, r, answer.Header.Get("Sign-On-URL"), http.StatusSeeOther)
	case http.StatusForbidden:
		http.Redirect(w, r, "/why/v1/"+answer.Header.Get("Decision-ID"), http.StatusSeeOther)
	default:
		http.Error(w, "The gateway is set up wrongly.", http.StatusInternalServerError)
	}
}

// whyPath is that of the service's pages for people.
var whyPath = regexp.MustCompile(`^/why/v1/[0-9a-f]{32}$`)

// withoutCookie removes a cookie: the sites do not need the person's token.
func withoutCookie(h http.Header, name string) {
	var kept []string
	for _, c := range strings.Split(strings.Join(h["Cookie"], ";"), ";") {
		if of, _, _ := strings.Cut(c, "="); strings.TrimSpace(of) != name {
			kept = append(kept, strings.TrimSpace(c))
		}
	}
	h.Set("Cookie", strings.Join(kept, "; "))
}

// pass passes a request on to an address, with what the gateway says.
func (g *gateway) pass(w http.ResponseWriter, r *http.Request, to, host string, said http.Header) {
	q, err := http.NewRequestWithContext(r.Context(), r.Method, to, r.Body)
	if err != nil {
		http.Error(w, "no gateway", http.StatusInternalServerError)
		return
	}
	q.Host, q.Header = host, r.Header.Clone()
	maps.Copy(q.Header, said)
	answer, err := http.DefaultTransport.RoundTrip(q)
	if err != nil {
		http.Error(w, "The site does not answer.", http.StatusBadGateway)
		return
	}
	defer answer.Body.Close()
	for name, values := range answer.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(answer.StatusCode)
	_, _ = io.Copy(w, answer.Body)
}

// startNginx starts nginx before the sites.
func (h *harbour) startNginx(nginx, inner string) error {
	address := h.listens["sites"].Addr().String()
	dir := filepath.Join(h.dir, "nginx")
	if err := errors.Join(os.Mkdir(dir, 0o755), os.Chmod(h.dir, 0o755), h.listens["sites"].Close()); err != nil {
		return err
	}
	text, err := template.ParseFS(rules, "rules/nginx.conf")
	if err != nil {
		return err
	}
	var config bytes.Buffer
	if err := text.Execute(&config, map[string]any{"Dir": dir, "Listen": address, "Service": h.listens["service"].Addr().String(), "Inner": inner, "Token": h.token("gate"),
		"Front": h.listens["front"].Addr().String(), "DeskHost": deskHost, "Cookie": sessionCookie, "Places": places, "Hosts": []string{newsHost, rosterHost, berthsHost}, "Port": address[strings.LastIndexByte(address, ':')+1:]}); err != nil {
		return err
	}
	file := filepath.Join(dir, "nginx.conf")
	if err := os.WriteFile(file, config.Bytes(), 0o600); err != nil {
		return err
	}
	c := exec.Command(nginx, "-e", filepath.Join(dir, "error.log"), "-c", file)
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	if err := c.Start(); err != nil {
		return err
	}
	h.behind = "nginx"
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	h.atEnd(func() error {
		_ = c.Process.Signal(os.Interrupt)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = c.Process.Kill()
		}
		return nil
	})
	for range 100 {
		if conn, err := net.Dial("tcp", address); err == nil {
			return conn.Close()
		}
		select {
		case err := <-ended:
			ended <- err
			return fmt.Errorf("nginx: %w: %s", err, &said)
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("nginx does not answer: %s", &said)
}
