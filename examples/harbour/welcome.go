package main

// What is told first.

import (
	"fmt"
	"strings"
)

// addresses are where one can go: a name, an address, and what it is.
func (h *harbour) addresses() [][3]string {
	return [][3]string{
		{"The noticeboard", h.url(newsHost, "sites") + "/", "a password is enough"},
		{"Who sails when", h.url(rosterHost, "sites") + "/", "in Norvik, aboard or abroad: each asks for something else"},
		{"The roster's administration", h.url(rosterHost, "sites") + "/admin/", "for harbour IT, by two factors at each visit"},
		{"The berth planner's program", h.url(plannerHost, "front") + "/", "signs you on by OpenID Connect, and remembers your device"},
		{"Tidy Notes", h.url(notesHost, "front") + "/", "a program of others, which asks for far too much"},
		{"The sign-on desk", h.url(deskHost, "front") + "/", "how you sign on, and signing out"},
		{"A phone", h.url(domain, "front") + "/pocket", "which shows the codes of anybody's app"},
	}
}

func (h *harbour) welcome() string {
	var b strings.Builder
	fmt.Fprintf(&b, "The harbour is open, with %s before its sites. Begin at\n\n  %s/\n\n", h.behind, h.url(domain, "front"))
	fmt.Fprintf(&b, "where you choose where you are and on what. Passwords are made up: that of mira.holt is %q.\n\n", passwordOf("mira.holt"))
	for _, a := range h.addresses() {
		fmt.Fprintf(&b, "  %-28s %s\n", a[0], a[1])
	}
	fmt.Fprintf(&b, "\nTry:\n  1. In Norvik, read the noticeboard as mira.holt. Then be behind a relay, and look again.\n")
	fmt.Fprintf(&b, "  2. At the desk, set up a passkey. Then be abroad, and look who sails when.\n")
	fmt.Fprintf(&b, "  3. Have Tidy Notes ask for everything, and settle what waits:\n     brisk consent waiting -r %s/skerry-line --ledger %s/brisk.state\n", h.dir, h.dir)
	fmt.Fprintf(&b, "  4. Read the log of it all: %s/signons\n", h.dir)
	code, _ := h.vault.Code("odd.kvale")
	if radclient := installed("radclient"); radclient != "" {
		fmt.Fprintf(&b, "  5. Open the VPN with a password, and then with the State that it answers and a code (now %s):\n     echo 'User-Name=odd.kvale, User-Password=%s, Calling-Station-Id=203.0.113.20, Message-Authenticator=0x00' | radclient -x %s auth %s\n",
			code, passwordOf("odd.kvale"), h.radius.LocalAddr(), h.token("radius"))
	}
	b.WriteString("\nCtrl-C ends it all, and forgets it.\n")
	return b.String()
}
