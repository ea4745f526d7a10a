package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/examples/desk/vault"
)

// needs finds a program, or leaves the test out where it need not be there.
func needs(t testing.TB, program string) string {
	t.Helper()
	path := installed(program)
	if path == "" && os.Getenv("BRISK_NEEDS_PROGRAMS") != "" {
		t.Fatalf("%s is not installed", program)
	}
	if path == "" {
		t.Skipf("needs %s, which is not installed", program)
	}
	return path
}

// open opens a harbour whose clock a test can put forward.
func open(t testing.TB, nginx bool) (h *harbour, forward func(time.Duration)) {
	t.Helper()
	return openBy(t, nginx, tuesday(time.Now()))
}

// openBy opens a harbour by a clock.
func openBy(t testing.TB, nginx bool, clock func() time.Time) (h *harbour, forward func(time.Duration)) {
	t.Helper()
	var ahead atomic.Int64
	h, err := start(options{now: func() time.Time { return clock().Add(time.Duration(ahead.Load())) }, nginx: nginx, log: io.Discard})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.close()) })
	return h, func(d time.Duration) { ahead.Add(int64(d)) }
}

// person is before a browser of her own.
type person struct {
	*testing.T
	*harbour
	ctx  context.Context
	name string
}

// browsers starts Chromium; what it gives opens a browser for a person, who knows nothing of the others'.
func browsers(t *testing.T, h *harbour) func(t *testing.T, name, place string) *person {
	chromium := needs(t, "chromium")
	allocated, cancel := chromedp.NewExecAllocator(context.Background(), append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(chromium),
		chromedp.Flag("no-sandbox", true), chromedp.WindowSize(1280, 800), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true))...)
	t.Cleanup(cancel)
	first, cancel := chromedp.NewContext(allocated)
	t.Cleanup(cancel)
	require.NoError(t, chromedp.Do(first))
	return func(t *testing.T, name, place string) *person {
		ctx, cancel := chromedp.NewContext(first, chromedp.WithNewBrowserContext())
		t.Cleanup(cancel)
		require.NoError(t, chromedp.Do(ctx)) // the tab lasts as long as the context by which it is opened
		p := &person{t, h, ctx, name}
		p.run(chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
			if _, err := cdp.Call(ctx, tab, webauthn.Enable, webauthn.EnableParams{}); err != nil {
				return err
			}
			_, err := cdp.Call(ctx, tab, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{
				Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true,
				IsUserVerified: true, AutomaticPresenceSimulation: true, DefaultBackupEligibility: name == "trygve.engan"}}) // whose phone copies its keys
			return err
		}))
		p.be(place)
		return p
	}
}

func (p *person) run(actions ...chromedp.Action[chromedp.Void]) {
	p.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	require.NoError(p, chromedp.Do(ctx, actions...), p.name)
}

// eval evaluates a script on the page; one that is just being left says nothing.
func (p *person) eval(script string) string {
	ctx, cancel := context.WithTimeout(p.ctx, 5*time.Second)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](script))
	if err != nil {
		return ""
	}
	return text
}

// be puts a person somewhere.
func (p *person) be(place string) {
	p.Helper()
	p.run(chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
		_, err := cdp.Call(ctx, tab, network.SetCookie, network.SetCookieParams{Name: placeCookie, Value: place, Domain: "." + domain, Path: "/"})
		return err
	}))
}

// restart ends the browser, which forgets what it keeps for the session alone.
func (p *person) restart() {
	p.Helper()
	p.run(chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
		_, err := cdp.Call(ctx, tab, network.DeleteCookies, network.DeleteCookiesParams{Name: "__Host-desk", URL: p.url(deskHost, "front")})
		return err
	}))
}

// until waits until something is so.
func (p *person) until(what string, is func() bool) {
	p.Helper()
	for range 200 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.Fail(p, what, "to %s at %s:\n%s", p.name, p.eval("location.href"), p.eval("document.body.innerText"))
}

// sees waits until the page says something, and gives what it says.
func (p *person) sees(said ...string) (text string) {
	p.Helper()
	p.until(fmt.Sprintf("it is not said: %q", said), func() bool {
		text = p.eval("document.readyState == 'complete' ? document.body.innerText : ''")
		for _, s := range said {
			if !strings.Contains(text, s) {
				return false
			}
		}
		return text != ""
	})
	return text
}

func (p *person) goTo(url string) {
	p.Helper()
	p.run(chromedp.Navigate(url))
}

// press presses the button, or follows the link, of a name.
func (p *person) press(name string) {
	p.Helper()
	script := fmt.Sprintf(`(() => { const e = [...document.querySelectorAll("button, a")].find(e => e.innerText.trim() == %q); if (!e) return ""; setTimeout(() => e.click()); return "pressed" })()`, name)
	p.until("there is nothing to press: "+name, func() bool { return p.eval(script) == "pressed" })
}

// The pages are looked at in all the ways in which people see them: for pictures, and by an audit of accessibility.
var (
	pictures = flag.String("pictures", "", "the folder for pictures of the harbour's pages")
	axe      = flag.String("axe", "", "the script of axe-core, to audit the harbour's pages with")
)

func (p *person) look(name string) {
	p.Helper()
	if *pictures == "" && *axe == "" {
		return
	}
	for _, view := range []struct {
		suffix, scheme string
		width, height  int64
	}{{"", "light", 640, 720}, {"-dark", "dark", 1280, 800}, {"-wide", "light", 1280, 800}, {"-phone", "light", 390, 844}} {
		p.run(chromedp.EmulateViewport(view.width, view.height), chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
			_, err := cdp.Call(ctx, tab, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: view.scheme}}})
			return err
		}))
		if *axe != "" {
			require.Equal(p, "nothing", p.audit(), name+view.suffix)
		}
		if *pictures != "" {
			png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
			require.NoError(p, err)
			require.NoError(p, os.WriteFile(filepath.Join(*pictures, name+view.suffix+".png"), png, 0o644))
		}
	}
}

// audit gives what axe-core finds on the page.
func (p *person) audit() string {
	p.Helper()
	script, err := os.ReadFile(*axe)
	require.NoError(p, err)
	p.eval(string(script) + `;window.found = ""; axe.run().then(r => { window.found = r.violations.map(v => v.id + ": " + v.nodes.map(n => n.html).join(" ")).join("\n") || "nothing" }); ""`)
	var found string
	p.until("axe-core says nothing", func() bool { found = p.eval("window.found || ''"); return found != "" })
	return found
}

// key has the key sign, and gives the statuses with which what it has signed is answered, after so many seconds each.
func (p *person) key(after ...int) string {
	p.Helper()
	p.eval(fmt.Sprintf(`(async () => {
		window.answered = "";
		const b = document.getElementById("key"), body = {method: "POST"};
		const options = (await (await fetch(b.dataset.options, body)).json()).publicKey;
		if (!options) { window.answered = "409"; return "" }
		const key = await navigator.credentials.get({publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(options)});
		const said = [];
		for (const n of Array(%d)) said.push((await fetch(b.dataset.answer, {method: "POST", body: JSON.stringify(key.toJSON())})).status);
		window.answered = said.join(" ");
		return "";
	})() && ""`, len(after)))
	var said string
	p.until("the key says nothing", func() bool { said = p.eval("window.answered || ''"); return said != "" })
	return said
}

func (p *person) fill(id, value string) {
	p.Helper()
	script := fmt.Sprintf(`(() => { const e = document.getElementById(%q); if (!e) return ""; e.value = %q; return "filled" })()`, id, value)
	p.until("there is nothing to fill in: "+id, func() bool { return p.eval(script) == "filled" })
}

// signOn gives name and password.
func (p *person) signOn() {
	p.Helper()
	p.sees("Sign on")
	p.fill("user", p.name)
	p.fill("password", passwordOf(p.name))
	p.press("Go on")
}

// code gives the code that the person's app shows.
func (p *person) code() string {
	p.Helper()
	code, ok := p.vault.Code(p.name)
	require.True(p, ok)
	p.give(code)
	return code
}

func (p *person) give(code string) {
	p.Helper()
	p.sees("Code of your app")
	p.fill("value", code)
	p.press("Go on")
}

// enrol sets up a passkey, from where one may; in the first week, without giving the password again.
func (p *person) enrol(firstWeek bool) {
	p.Helper()
	p.goTo(p.url(deskHost, "front") + "/methods")
	p.sees("Set up one more")
	p.press("Passkey")
	if !firstWeek {
		p.sees("Password")
		p.fill("value", passwordOf(p.name))
		p.press("Go on")
	}
	p.sees("Set up: Passkey")
	p.press("Leave it as it was")
	p.sees("Set up one more")
	p.press("Passkey")
	p.sees("Set up: Passkey")
	p.press("Make it now")
	p.sees("What you have set up here", "Passkey", "Remove")
	p.look("desk-methods")
}

func (p *person) news() string   { return p.url(newsHost, "sites") + "/" }
func (p *person) berths() string { return p.url(berthsHost, "sites") + "/" }
func (p *person) roster() string { return p.url(rosterHost, "sites") + "/week" }

// TestBrowser goes through the harbour as people do.
func TestBrowser(t *testing.T) {
	h, forward := open(t, true)
	visit := browsers(t, h)

	t.Run("in a port", func(t *testing.T) {
		mira := visit(t, "mira.holt", "norvik")
		mira.goTo(mira.news())
		mira.sees("Sign on", "A stand-in")
		mira.look("desk")
		mira.fill("user", "mira.holt")
		mira.fill("password", "wrong")
		mira.press("Go on")
		mira.sees("do not belong together")
		require.Equal(t, "password mira.holt", mira.eval("document.activeElement.id + ' ' + document.getElementById('user').value"))
		mira.look("desk-wrong")
		mira.eval("history.back(), ''")
		mira.sees("Sign on", "Name")
		mira.goTo(mira.news())
		mira.signOn()
		mira.sees("The noticeboard", "you are mira.holt")
		mira.look("site")
		mira.goTo(mira.roster())
		said := mira.sees("You were not let in", "nothing says here which one this is")
		require.NotContains(t, said, "Disk is encrypted", "a gateway cannot know it")
		mira.look("desk-device")

		mira.enrol(false)
		mira.be("abroad")
		mira.goTo(mira.roster())
		mira.sees("Passkey", "Use it now")
		mira.look("desk-step-up")
		require.Equal(t, "200 409 409", mira.key(0, 0, 0), "what a key has signed counts once")
		mira.goTo(mira.eval("location.href"))
		mira.sees("Who sails when", "you are mira.holt")
		mira.goTo(mira.roster())
		mira.sees("you are mira.holt")
		mira.goTo(mira.url(rosterHost, "sites") + "/admin/")
		mira.sees("You were not let in")
		mira.be("relay")
		mira.goTo(mira.news())
		said = mira.sees("You were not let in", "Please sign on without a relay.", "Reference")
		mira.look("why")
		require.NotContains(t, said, "base")
		require.NotContains(t, said, "nothing that you can do")
		reference := regexp.MustCompile(`[0-9a-f]{32}`).FindString(said)
		logs, err := filepath.Glob(filepath.Join(h.dir, "signons", "*"))
		require.NoError(t, err)
		require.Len(t, logs, 1)
		found, err := exec.Command("go", "run", "../../cmd/brisk", "decide", "-r", filepath.Join(h.dir, "skerry-line"), "--id", reference, "--requests", logs[0]).CombinedOutput()
		require.NoError(t, err, "%s", found)
		require.Contains(t, string(found), `base "relay"`, "the administrator finds it by the reference")
		require.Regexp(t, `Reference: [0-9a-f]{32}`, said)

		mira.be("norvik")
		mira.goTo(mira.news())
		mira.sees("you are mira.holt")
		require.NoError(t, h.fleet.send("mira.holt", sessionRevoked, map[string]any{}))
		mira.goTo(mira.news())
		mira.sees("You were not let in", "This session has ended")
		mira.press("Go on to “News for all”")
		mira.signOn()
		mira.sees("The noticeboard", "you are mira.holt")
	})

	t.Run("wrong, stale and replayed", func(t *testing.T) {
		odd := visit(t, "odd.kvale", "home")
		odd.goTo(odd.berths())
		odd.signOn()
		stale, _ := h.vault.Code("odd.kvale")
		odd.give("000000")
		odd.sees("That is not right")
		forward(2 * time.Minute)
		odd.give(stale)
		odd.sees("That is not right")
		used := odd.code()
		odd.sees("Which ferry lies where", "you are odd.kvale")
		again := visit(t, "odd.kvale", "home")
		again.goTo(again.berths())
		again.signOn()
		again.give(used)
		again.sees("That is not right")
	})

	t.Run("the first week", func(t *testing.T) {
		ingrid := visit(t, "ingrid.moe", "norvik")
		ingrid.goTo(ingrid.news())
		ingrid.signOn()
		ingrid.sees("you are ingrid.moe")
		ingrid.enrol(true)
		other := visit(t, "ingrid.moe", "home")
		other.goTo(other.url(deskHost, "front") + "/methods")
		other.signOn()
		other.press("Security key")
		other.sees("Passkey", "Use it now")
		other.press("Use it now")
		other.sees("That did not work")

		ingrid.goTo(ingrid.url(deskHost, "front") + "/methods")
		ingrid.press("Security key")
		ingrid.sees("Set up: Security key")
		ingrid.press("Make it now")
		ingrid.sees("That did not work") // one key is one method
		ingrid.goTo(ingrid.url(deskHost, "front") + "/sign-out")
		ingrid.press("Sign out of everything")
		for range 20 {
			h.vault.CheckPassword(vault.Try{User: "ingrid.moe", From: netip.MustParseAddr("192.0.2.14")}, "wrong")
		}
		ingrid.goTo(ingrid.news())
		ingrid.goTo(ingrid.eval("document.querySelector('a.again')?.href || location.href"))
		ingrid.press("Use a passkey instead")
		ingrid.sees("you are ingrid.moe")
	})

	t.Run("a password that others know", func(t *testing.T) {
		alva := visit(t, "alva.strand", "home")
		alva.goTo(alva.news())
		alva.signOn()
		alva.sees("you are alva.strand")
		require.NoError(t, h.fleet.send("alva.strand", credentialCompromise, map[string]any{"credential_type": "password"}))
		alva.goTo(alva.news())
		alva.sees("This session has ended")
		alva.goTo(alva.eval("document.querySelector('a.again').href"))
		alva.signOn()
		alva.code()
		alva.sees("Choose another password")
		alva.look("desk-change")
		for _, c := range [][3]string{{passwordOf("alva.strand"), passwordOf("alva.strand"), "easily guessed"}, {"short", "short", "too short"},
			{"a storm off Eastholm", "another storm", "not the same"}} {
			alva.fill("new", c[0])
			alva.fill("again", c[1])
			alva.press("Change it")
			alva.sees("Choose another password", c[2])
		}
		alva.fill("new", "a storm off Eastholm")
		alva.fill("again", "a storm off Eastholm")
		alva.press("Change it")
		alva.sees("you are alva.strand")
		require.False(t, h.vault.CheckPassword(vault.Try{User: "alva.strand"}, passwordOf("alva.strand")))
		alva.goTo(alva.news())
		alva.sees("you are alva.strand")
	})

	t.Run("a device that is remembered", func(t *testing.T) {
		for _, remember := range []bool{true, false} {
			tuva := visit(t, "tuva.haug", "home")
			tuva.goTo(tuva.url(plannerHost, "front") + "/sign-on")
			tuva.sees("Sign on")
			if remember {
				tuva.eval(`document.getElementById("remember").click(), ""`)
			}
			tuva.signOn()
			tuva.code()
			tuva.sees("You have signed on as tuva.haug")
			tuva.goTo(tuva.url(deskHost, "front") + "/sign-out")
			tuva.press("Sign out of everything")
			tuva.sees("You are signed out")
			tuva.goTo(tuva.url(plannerHost, "front") + "/")
			require.NotContains(t, tuva.sees("The berth planner"), "tuva.haug", "the program was told")
			tuva.goTo(tuva.url(plannerHost, "front") + "/sign-on")
			tuva.signOn()
			forward(time.Minute)
			tuva.code()
			tuva.sees("You have signed on as tuva.haug")
			tuva.restart()
			tuva.goTo(tuva.url(plannerHost, "front") + "/sign-on")
			tuva.signOn()
			if remember {
				tuva.sees("You have signed on as tuva.haug")
			} else {
				tuva.sees("Code of your app")
			}
			forward(25 * time.Hour)
			tuva.goTo(tuva.url(plannerHost, "front") + "/sign-on?prompt=login")
			tuva.signOn()
			tuva.sees("Code of your app")
		}
	})

	t.Run("a client that asks for too much", func(t *testing.T) {
		sten := visit(t, "sten.rygg", "home")
		ask := func(scopes string) {
			sten.goTo(sten.url(notesHost, "front") + "/sign-on" + scopes)
		}
		ask("")
		sten.signOn()
		sten.code()
		sten.sees("Tidy Notes asks for something", "whom nobody has verified", "Money", "what people are paid", "everything.else")
		sten.look("desk-consent")
		sten.press("No, give it nothing")
		sten.sees("access_denied")
		ask("")
		sten.code2(forward)
		sten.press("Ask for it")
		sten.sees("Your request waits for a review")
		sten.look("desk-review")

		ledger := consent.New(h.store, h.rules)
		waiting, err := ledger.Waiting(t.Context())
		require.NoError(t, err)
		require.Len(t, waiting, 1)
		_, err = ledger.Settle(t.Context(), waiting[0].ID, consent.Settlement{Grant: true, By: "birk.holt", Because: "The roster is enough", Only: []string{"openid", "profile", "roster.read"}})
		require.NoError(t, err)
		ask("?scope=openid+profile+roster.read")
		sten.code2(forward)
		sten.press("Ask for it")
		sten.sees("You have signed on as sten.rygg", "openid profile roster.read")
		ask("?scope=openid+ledger.read")
		sten.code2(forward)
		sten.press("Ask for it")
		sten.sees("Your request waits for a review")
	})

	t.Run("codes to recover by, and a device to mend", func(t *testing.T) {
		trygve := visit(t, "trygve.engan", "norvik")
		trygve.goTo(trygve.url(deskHost, "front") + "/methods")
		trygve.signOn()
		trygve.press("Recovery code")
		text := trygve.sees("Your recovery codes", "Each counts once")
		codes := regexp.MustCompile(`(?m)^[a-z2-7]{12}$`).FindAllString(text, -1)
		require.Len(t, codes, 8)
		trygve.press("I have them")
		trygve.sees("What you have set up here", "Recovery code")
		for i, code := range []string{codes[0], codes[0], codes[1]} {
			require.Equal(t, i != 1, h.vault.CheckRecoveryCode(vault.Try{User: "trygve.engan"}, code), "each counts once")
		}
		trygve.press("Passkey")
		trygve.sees("To go on to")
		trygve.fill("value", passwordOf("trygve.engan"))
		trygve.press("Go on")
		trygve.sees("Set up: Passkey")
		trygve.press("Make it now")
		trygve.sees("It counts as a synced passkey")
		require.True(t, h.vault.Has("trygve.engan", vault.SyncedPasskey))
		require.False(t, h.vault.Has("trygve.engan", vault.Passkey))

		bodil := visit(t, "bodil.solvang", "home")
		bodil.run(chromedp.Func(func(ctx context.Context, tab *chromedp.Target) error {
			_, err := cdp.Call(ctx, tab, network.SetCookie, network.SetCookieParams{Name: madeUpDevice, Value: "phone", Domain: "." + domain, Path: "/"})
			return err
		}))
		bodil.goTo(bodil.url(notesHost, "front") + "/sign-on")
		bodil.signOn()
		bodil.sees("You were not let in", "Mend on your device", "Disk is encrypted")
	})

	t.Run("signing out", func(t *testing.T) {
		leif := visit(t, "leif.dale", "norvik")
		leif.goTo(leif.news())
		leif.signOn()
		leif.sees("you are leif.dale")
		leif.goTo(leif.url(domain, "front") + "/")
		leif.sees("Where are you")
		leif.look("harbour")
		leif.goTo(leif.news())
		leif.press("Sign out")
		leif.press("Sign out of everything")
		leif.sees("You are signed out")
		leif.press("Go back to “The noticeboard”")
		leif.sees("This session has ended")
		leif.goTo(leif.eval("document.querySelector('a.again').href"))
		leif.sees("Sign on", "Password")
	})
}

// code2 gives a new code, where one is asked for once more.
func (p *person) code2(forward func(time.Duration)) {
	p.Helper()
	forward(time.Minute)
	if text := p.sees(""); strings.Contains(text, "Code of your app") {
		p.code()
	}
	p.sees("Tidy Notes asks for something")
}
