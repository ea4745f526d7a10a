package main

// Starting everything, and stopping it.

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/demo"
	"briskwarden.example/briskwarden/examples/desk"
	"briskwarden.example/briskwarden/examples/desk/decisions"
	"briskwarden.example/briskwarden/examples/desk/vault"
	"briskwarden.example/briskwarden/examples/vpn"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

//go:embed rules
var rules embed.FS

// options say how the harbour is started.
type options struct {
	port  int // of the desk; the sites, the service, the machines' desk and RADIUS have the next ones. 0 is any
	now   func() time.Time
	nginx bool // before the sites, where it is installed
	log   io.Writer
}

// harbour is all that was started.
type harbour struct {
	options
	dir     string // of the rulebook, the state and the sign-on log
	rules   *briskwarden.Rulebook
	store   state.Store
	service *service.Service
	desk    *desk.Desk
	vault   *vault.Vault
	fleet   *fleet
	scanner *scanner
	planner *program
	notes   *program
	tokens  map[string]string // of callers
	behind  string            // what stands before the sites

	sitesAddress string         // of whoever listens for them
	deskTrust    *x509.CertPool // of the desk's own certificate, for machines
	listens      map[string]net.Listener
	radius       net.PacketConn
	stopping     []func() error
}

// domain is where all of it is: names under localhost are this machine (RFC 6761), and browsers trust them.
const domain = "harbour.localhost"

// sessionCookie is the name of the sites' cookies with the tokens of people.
const sessionCookie = "__Host-skerry-session"

// The hosts of the harbour.
const (
	deskHost    = "desk." + domain
	newsHost    = "news." + domain
	rosterHost  = "roster." + domain
	berthsHost  = "berths." + domain
	plannerHost = "planner." + domain
	notesHost   = "notes." + domain
)

func start(o options) (*harbour, error) {
	h := &harbour{options: o, tokens: map[string]string{}, listens: map[string]net.Listener{}}
	for _, step := range []func() error{h.listen, h.people, h.openDesk, h.rulebook, h.openService, h.openSites, h.openScanner, h.startVPN} {
		if err := step(); err != nil {
			return nil, errors.Join(err, h.close())
		}
	}
	return h, nil
}

func (h *harbour) close() error {
	var all []error
	for i := len(h.stopping) - 1; i >= 0; i-- {
		all = append(all, h.stopping[i]())
	}
	return errors.Join(all...)
}

func (h *harbour) atEnd(do func() error) { h.stopping = append(h.stopping, do) }

// listen takes the ports.
func (h *harbour) listen() (err error) {
	if h.dir, err = os.MkdirTemp("", "harbour-"); err != nil {
		return err
	}
	h.atEnd(func() error { return os.RemoveAll(h.dir) })
	for i, name := range []string{"front", "sites", "service", "machines"} {
		port := 0
		if h.port != 0 {
			port = h.port + i
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return err
		}
		h.listens[name] = l
		h.atEnd(func() error { _ = l.Close(); return nil }) // whoever serves has closed it already
	}
	port := 0
	if h.port != 0 {
		port = h.port + 4
	}
	h.sitesAddress = h.listens["sites"].Addr().String()
	h.radius, err = net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port))
	return err
}

// url is the address of a host of the harbour, by who listens.
func (h *harbour) url(host, listens string) string {
	_, port, _ := net.SplitHostPort(h.listens[listens].Addr().String())
	return "http://" + host + ":" + port
}

// serve serves a handler until the end.
func (h *harbour) serve(l net.Listener, handler http.Handler) {
	s := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(h.logger().Handler(), slog.LevelWarn)}
	go func() { _ = s.Serve(l) }() // it ends with the harbour
	h.atEnd(func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if s.Shutdown(ctx) != nil { // a browser holds on to its connections
			return s.Close()
		}
		return nil
	})
}

func (h *harbour) logger() *slog.Logger {
	return slog.New(slog.NewTextHandler(h.log, &slog.HandlerOptions{Level: slog.LevelWarn}))
}

// people gives everybody of the demo a password, and app codes to those who have them.
func (h *harbour) people() error {
	h.vault = vault.New(h.now)
	data, err := fs.ReadFile(demo.SkerryLine(), "directory/people.json")
	if err != nil {
		return err
	}
	var list struct {
		Resources []struct {
			UserName string `json:"userName"`
			SignOn   struct {
				Methods []string `json:"methods"`
			} `json:"urn:brisk-warden:params:scim:schemas:SignOn"`
		}
	}
	if err := json.Unmarshal(data, &list); err != nil {
		return err
	}
	for _, p := range list.Resources {
		if p.UserName == "" {
			continue
		}
		h.vault.Add(p.UserName, passwordOf(p.UserName))
		for _, m := range p.SignOn.Methods {
			if m == vault.AppCode {
				h.vault.Give(p.UserName)
			}
		}
	}
	return nil
}

// passwordOf is the made-up password of a person.
func passwordOf(user string) string { return "sail-with-" + user }

// token is a new token of a caller.
func (h *harbour) token(caller string) string {
	if h.tokens[caller] == "" {
		h.tokens[caller] = newSecret()
	}
	return h.tokens[caller]
}

func (h *harbour) caller(name string) *decisions.Service {
	return &decisions.Service{URL: "http://" + h.listens["service"].Addr().String(), Token: h.token(name)}
}

// openDesk opens the sign-on desk, and the programs that sign people on by it.
func (h *harbour) openDesk() (err error) {
	h.planner = &program{h: h, client: &desk.Client{ID: "planner", Name: "The berth planner's program", App: "berth-planner"}, title: "The berth planner"}
	h.notes = &program{h: h, client: &desk.Client{ID: "tidy-notes", Name: "Tidy Notes", App: "crew-roster", ThirdParty: true, Publisher: "Fernwood Software"}, title: "Tidy Notes",
		scopes: []string{"openid", "profile", "roster.read", "roster.write", "ledger.read", "everything.else"}}
	machine, err := newScanner(h)
	if err != nil {
		return err
	}
	h.scanner = machine
	for host, p := range map[string]*program{plannerHost: h.planner, notesHost: h.notes} {
		p.url = h.url(host, "front")
		p.client.Redirects, p.client.Home, p.client.Leave = []string{p.url + "/back"}, p.url+"/", []string{p.url + "/"}
		p.client.SignedOut = "http://" + h.listens["front"].Addr().String() + "/signed-out/" + p.client.ID
	}
	h.desk, err = desk.New(desk.Options{
		URL: h.url(deskHost, "front"), Cookie: sessionCookie, Decisions: h.caller("desk"), Vault: h.vault, Now: h.now, Zone: oslo, Log: h.logger(),
		Sites: map[string]desk.Site{h.url(newsHost, "sites"): {Name: "The noticeboard", Audience: []string{"news"}}, h.url(rosterHost, "sites"): {Name: "Who sails when", Audience: []string{"roster"}},
			h.url(berthsHost, "sites"): {Name: "Which ferry lies where", Audience: []string{"berths"}}},
		Clients: []*desk.Client{h.planner.client, h.notes.client, h.scanner.client},
		Scopes: []desk.ScopeSet{{Title: "Who you are", Lets: "See your name and your address for mail.", Scopes: []string{"openid", "profile", "email"}},
			{Title: "Who sails when", Lets: "See the roster in your name, and change what you may change in it.", Weight: 40, Scopes: []string{"roster.*"}},
			{Title: "Money: the books and the salaries", Lets: "Read what the line earns and pays, and what people are paid.", Weight: 80, Scopes: []string{"ledger.*", "payroll.*"}}},
		Circumstances: circumstances, Contact: "Call the harbour desk: 5000.",
	})
	return err
}

// rulebook writes the demo's rulebook with what the harbour adds, and opens it.
func (h *harbour) rulebook() (err error) {
	if h.fleet, err = newFleet(h); err != nil {
		return err
	}
	dir := filepath.Join(h.dir, "skerry-line")
	if err := os.CopyFS(dir, demo.SkerryLine()); err != nil {
		return err
	}
	extra, err := rules.ReadFile("rules/harbour.warden")
	if err != nil {
		return err
	}
	apps, err := os.ReadFile(filepath.Join(dir, "apps.warden"))
	if err != nil {
		return err
	}
	keys, err := json.Marshal(h.desk.KeySet())
	if err != nil {
		return err
	}
	digest := func(caller string) string { return fmt.Sprintf("sha256:%x", sha256.Sum256([]byte(h.token(caller)))) }
	extra = []byte(strings.NewReplacer("DESK-TOKEN", digest("desk"), "GATE-TOKEN", digest("gate"), "VPN-TOKEN", digest("vpn"), "FLEET-TOKEN", digest("fleet"),
		"DESK-URL", h.url(deskHost, "front"), "ROSTER-URL", h.url(rosterHost, "sites")).Replace(string(extra)))
	apps = []byte(strings.NewReplacer("https://news.skerry.example", h.url(newsHost, "sites"), "https://roster.skerry.example", h.url(rosterHost, "sites"),
		"https://berths.skerry.example", h.url(berthsHost, "sites")).Replace(string(apps)))
	if err := os.MkdirAll(filepath.Join(dir, "keys"), 0o755); err != nil {
		return err
	}
	for name, data := range map[string][]byte{"harbour.warden": extra, "apps.warden": apps, "keys/desk.jwks.json": keys, "keys/fleet.jwks.json": h.fleet.keySet()} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			return err
		}
	}
	h.rules, err = briskwarden.Open(dir, briskwarden.WithClock(h.now))
	return err
}

// shifted is a state whose clock is the harbour's.
type shifted struct {
	state.Store
	now func() time.Time
}

func (s *shifted) Read(ctx context.Context, keys []state.Key) (state.Reading, error) {
	at := s.now()
	r, err := s.Store.Read(ctx, keys)
	r.At = at
	return r, err
}

// openService starts the decision service.
func (h *harbour) openService() error {
	store, err := sqlite.Open(filepath.Join(h.dir, "brisk.state"))
	if err != nil {
		return err
	}
	h.store = &shifted{store, h.now}
	h.atEnd(store.Close)
	signOns, err := service.OpenLog(filepath.Join(h.dir, "signons"), "harbour")
	if err != nil {
		return err
	}
	h.atEnd(signOns.Close)
	h.service = service.New(h.rules, h.store, service.Options{Clock: h.now, Log: h.logger(), SignOns: signOns, URL: "http://" + h.listens["service"].Addr().String()})
	h.atEnd(h.service.Close)
	h.serve(h.listens["service"], h.service)
	return nil
}

// startVPN starts the VPN box.
func (h *harbour) startVPN() error {
	ctx, stop := context.WithCancel(context.Background())
	box := &vpn.Server{Decisions: h.caller("vpn"), Vault: h.vault, App: "vpn", Secret: []byte(h.token("radius")), Now: h.now, Log: h.logger()}
	ended := make(chan error, 1)
	go func() { ended <- box.Serve(ctx, h.radius) }()
	h.atEnd(func() error { stop(); _ = h.radius.Close(); return <-ended })
	return nil
}
