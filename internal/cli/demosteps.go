package cli

// What the demo shows.

// slip is a draft with mistakes in it.
var slip = draft{"policies/night-ferry.warden", `policy night-ferry {
  about "The night ferry's tills"
  who   group tiket-desk
  to    app ticketing
  case "at sea" when network in ferries and terminals => step-up password
  case "late" when time in watches and device.os >= 12 => grant
  otherwise => block
}
`}

// hasty is a draft without mistakes, that does not do what was meant.
var hasty = draft{"policies/winter-tills.warden", `schedule winter {
  mon-sun 06:00-20:00
  except  2026-12-24..2026-12-26
  during  2026-12-24..2026-12-26
}

policy winter-tills {
  about "In winter the tills open in Eastholm"
  owner "customers"
  who   group ticket-desk
  to    app ticketing, app payroll
  case "elsewhere" when network not in eastholm => block "Please come to Eastholm."
  case "winter" when time in winter or user.type in employee, guest, service => step-up password and (push or text-code)
  case "risky" when risk >= 60 => block
  otherwise => grant
}
`}

// quickFix is a waiver that somebody writes on a busy day.
var quickFix = draft{"policies/quick-fix.warden", `waiver year-end {
  because "The books must close, and the new laptops are late"
  owner   "finance"
  who     group finance
  to      tag money
  lifts   device meets office-machine
  until   2027-01-31
}
`}

// change is what a copy of the rulebook has otherwise, in one of its files.
type change struct {
	name, file string
	pairs      []string // what stands there, and what does instead
}

// rewrite says the same in other words.
var rewrite = change{"rewritten", "policies/crews.warden", []string{
	"case \"abroad\" when country not in home-waters => step-up passkey every time",
	"case \"abroad\" when not (country is NO or country in SE, DK) => step-up passkey every time",
	"case \"own phone\" when device.form in mobile, tablet and not device.managed\n",
	"case \"own phone\" when not device.managed and (device.form is mobile or device.form is tablet)\n",
}}

// mend is what a mended copy has.
var mend = change{"mended", "policies/crews.warden", []string{
	"network not in norvik, sundhamn =>", "network not in norvik, sundhamn, eastholm =>",
	"  stage enforce from 2027-01-11\n", "",
}}

// The folders of the demo, as they stand in the arguments of a scene.
const (
	original = "{rulebook}"
	mended   = "{mended}"
	reworded = "{rewritten}"
)

// now is when the demo takes place, whenever it is run.
const now = "2026-11-23T08:00"

// chapters are the parts of the demo: the story, and what goes deeper.
var chapters = []chapter{
	{"story", "the job from end to end", story},
	{"sign-ons", "addresses, stale reports, missing facts and emergency accounts", signOns},
	{"consent", "what client applications may do with whose data", consentSteps},
	{"certainty", "what holds for every possible sign-on, proved", certainty},
	{"service", "other programs ask over HTTP, and sessions are remembered", serviceSteps},
	{"watch", "who is told of which sign-ons, tried before anybody is woken", watchSteps},
	{"review", "what a change does, before it counts", reviewSteps},
}

var story = []scene{
	{title: "Read what there is",
		tell: "Skerry Line runs ferries between three ports. Its rulebook is a folder of text files, beside what the firm already has: its directory, address lists, calendars, device inventory and sign-on log. Check reads everything.",
		args: []string{"check", "--at", now}},
	{title: "A slip is told before it does harm",
		tell:   "A colleague drafts " + slip.file + " in a hurry. Each mistake is named with its place, the line itself and what to do. A rulebook with errors never decides.",
		args:   []string{"check", "--at", now},
		draft:  slip,
		status: exitFindings},
	{title: "Try a sign-on",
		tell: "The draft is gone again. Mira, a deckhand, signs on to the roster at a terminal on the quay. The inventory knows the tablet.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "ip", "198.51.100.14", "at", "2026-11-23T08:15",
			"device", "deck-tab-03", "presenting", "password"}},
	{title: "The same person, elsewhere", until: "Stood by",
		tell: "In the evening Mira is in Portugal, on her own tablet. The password alone no longer does; the answer says which policy asks, for what, and why.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "ip", "203.0.113.49", "at", "2026-11-23T21:40", "presenting", "password"}},
	{title: "A block that says why, and what would mend it", until: "Stood by",
		tell: "Ylva keeps the payroll, today from a phone without disk encryption.",
		args: []string{"decide", "user", "ylva.fjell", "app", "payroll", "ip", "203.0.113.30", "country", "NO", "at", "2026-11-23T12:00",
			"device ylva-phone { os ios version 17.4 form mobile encrypted no screenlock yes jailbroken no }", "presenting", "password, passkey"}},
	{title: "Watch before you enforce", until: "Stood by",
		tell: "The policy rosters-in-port is still on watch. It forgot a port: Henrik, who plans rosters in Eastholm, would be locked out. See \"Watched\".",
		args: []string{"decide", "user", "henrik.sund", "app", "crew-roster", "ip", "192.0.2.140", "at", "2026-11-23T09:05", "presenting", "password"}},
	{title: "Keep it so",
		tell: "What must stay true is written down beside the policies and run after every edit.",
		args: []string{"expect"}},
	{title: "Take last month through it", until: "By app",
		tell: "Every sign-on of four weeks is decided anew. The policy on watch would have locked out the whole office in Eastholm; and what the rulebook has learned since, a leaked password, shows as what would change.",
		args: []string{"replay", original + "/signons/2026-w44.jsonl.gz", original + "/signons/2026-w45.jsonl.gz", original + "/signons/2026-w46.jsonl.gz",
			original + "/signons/2026-w47.jsonl.gz"}},
	{title: "Mend it, and compare",
		tell: "A mended copy names the third port too, and enforces the policy at once, so that the log shows what it does. What changes now are sign-ons from outside the ports, as was meant.",
		args: []string{"compare", original, mended, "--log", original + "/signons/2026-w46.jsonl.gz", "--log", original + "/signons/2026-w47.jsonl.gz"}},
	{title: "Find who is not ready, and write to them", until: "engine-contractors ",
		tell: "In February everybody ashore needs a passkey. Who has none, and how long they have; with --csv, a list to write to.",
		args: []string{"ready", "--at", now, "--by", "2027-02-01"}},
	{title: "Enforce it", until: "Stood by",
		tell: "The date comes, or the stage line goes: from then on the policy answers. In Eastholm Henrik plans rosters as before; from home he reads why not.",
		args: []string{"decide", "-r", mended, "user", "henrik.sund", "app", "crew-roster", "ip", "203.0.113.30", "country", "NO", "at", "2027-01-11T19:20", "presenting", "password"}},
	{title: "Read the log for what is risky",
		tell: "Two weeks of sign-ons, scored by the rulebook's risk model against what was before. Somebody knows Elias's password, and Torben cannot have been in two places.",
		args: []string{"risk", original + "/signons/2026-w46.jsonl.gz", original + "/signons/2026-w47.jsonl.gz", "--above", "50", "--top", "8"}},
}

var signOns = []scene{
	{title: "What is no mistake, and yet hardly meant",
		tell:  "This draft has no errors. What it would do is another matter: see what check finds.",
		args:  []string{"check", "--at", now},
		draft: hasty},
	{title: "A report that is too old",
		tell: "Aksel, in finance, is at his desk on his own laptop. It has not reported since Saturday.",
		args: []string{"decide", "user", "aksel.nesse", "app", "ledger", "ip", "192.0.2.24", "at", "2026-11-23T09:10",
			"device", "fin-lap-04", "presenting", "password, app-code"}},
	{title: "An address that turned out to be IPv6",
		tell: "Astrid plans berths in Eastholm. Her office got IPv6, which the network eastholm does not list: she counts as elsewhere, and is asked for more.",
		args: []string{"decide", "user", "astrid.krog", "app", "berth-planner", "ip", "2001:db8:42::1c", "at", "2026-11-23T09:00",
			"device", "eastholm-lap-02", "presenting", "password"}},
	{title: "A missing fact only tightens",
		tell: "A deckhand at a terminal on the quay, but the request came without an address: the case \"at a terminal\" cannot be told, and neither can the others.",
		args: []string{"decide", "user", "mira.holt", "app", "crew-roster", "at", "2026-11-23T08:15", "device", "deck-tab-03", "presenting", "password"}},
	{title: "Nobody is locked out for good",
		tell: "Two envelopes lie in two safes. No policy, not even one that blocks everybody, stands in their way; their own demand alone decides.",
		args: []string{"decide", "user", "envelope.red", "app", "harbour-admin", "ip", "203.0.113.200", "at", "2026-11-23T03:12", "presenting", "security-key"}},
}

var certainty = []scene{
	{title: "Prove what an auditor asks",
		tell: "Trying sign-ons finds what somebody thought of. A promise is about all of them: everybody, every app, any address, device, session and proof, for a year.",
		args: []string{"prove", "--at", now}},
	{title: "A waiver that lets more through than was meant",
		tell:   "The books must close, and somebody writes " + quickFix.file + ". The promise that it breaks is shown by a sign-on, which the rulebook itself has decided.",
		args:   []string{"prove", "--at", now},
		draft:  quickFix,
		status: exitFindings},
	{title: "Without it, the promise holds again",
		tell: "The waiver is gone. One promise is proved by its name, and one more that stands nowhere.",
		args: []string{"prove", "money needs a sound device", "--at", now, "--that", "who group finance to tag money never grant without aal1"}},
	{title: "A rewrite that changes nothing",
		tell: "A copy says two cases of the roster in other words. That nothing comes out differently is no impression from trying, but proved.",
		args: []string{"compare", original, reworded, "--at", now}},
	{title: "A change, in principle",
		tell: "The mended copy of the story: every way in which some possible sign-on comes out differently, with one to show for it.",
		args: []string{"compare", original, mended, "--at", now}},
	{title: "What never comes, and who never gets in", until: "skerry-line: no errors",
		tell: "Check goes through every possible sign-on too, if asked to.",
		args: []string{"check", "--exact", "--at", now}},
	{title: "How well everything is covered", until: "\n 2. ",
		tell: "The least that ever lets anybody in, the weakest first; and what to do next, with the policy that does it.",
		args: []string{"survey", "--at", now, "--log", original + "/signons/2026-w47.jsonl.gz"}},
}

// broad is an alert that somebody writes who would like to know everything.
var broad = draft{"everything.warden", `alert everything-asked {
  about "Somebody is asked for more, or blocked"
  owner "harbour-it"
  when  risk >= 0
  on    block, step-up
  tell  "mailto:desk@skerry.example"
}
`}

var watchSteps = []scene{
	{title: "Try the alerts on what was",
		tell: "Two weeks of sign-ons go through the rulebook's alerts: which would have been raised, and how many messages that makes.",
		args: []string{"alerts", original + "/signons/2026-w46.jsonl.gz", original + "/signons/2026-w47.jsonl.gz"}},
	{title: "An alert that is too broad",
		tell:  "A colleague drafts " + broad.file + ". It is tried first, and the count says what it would do to the desk.",
		args:  []string{"alerts", original + "/signons/2026-w46.jsonl.gz", original + "/signons/2026-w47.jsonl.gz", "--alert", "everything-asked"},
		draft: broad},
	{title: "Read what is behind one",
		tell: "The sign-on of a message, and everything else that stands out in these weeks, with the factors behind each.",
		args: []string{"risk", original + "/signons/2026-w46.jsonl.gz", original + "/signons/2026-w47.jsonl.gz", "--above", "50", "--top", "5"}},
	{title: "The alert arrives",
		tell:   "The service sends mail, here to a stand-in that keeps it. Somebody tries Elias's account through a relay: who, what, how it came out and why stand in the first line.",
		mailed: &call{method: "POST", path: evaluationPath, body: asking("elias.kvale", "crew-roster", `"ip":"203.0.113.77","client":"browser","session":{"id":"x-1"},"presented":["password"]`), until: "demands"}},
	{title: "Everything about one account on one screen",
		tell: "Why he is in his groups, what he gets to and when, what speaks of him, and what he did last.",
		args: []string{"about", "user", "elias.kvale", "--at", now, "--log", original + "/signons/2026-w47.jsonl.gz"}},
	{title: "How the week went",
		tell: "The mail of Monday morning: what got worse first, and nothing that is as it should be.",
		args: []string{"digest", original + "/signons/2026-w46.jsonl.gz", original + "/signons/2026-w47.jsonl.gz", "--at", now, "--to", "2026-11-22"}},
}

var reviewSteps = []scene{
	{title: "A change is up for review", until: "Declarations",
		tell:   "The mended copy of the story is a proposed change. Review tells what it does, the worst first; where something loosens, somebody has to say why.",
		args:   []string{"review", original, "-r", mended, "--at", now, "--log", original + "/signons/2026-w47.jsonl.gz"},
		status: exitFindings},
	{title: "It may loosen, and here is why", until: "Loosened",
		tell: "With the reason it passes, and the reason stands in the review. A line of the commit's message does the same.",
		args: []string{"review", original, "-r", mended, "--at", now, "--accept", "Rosters are planned in Eastholm too"}},
	{title: "A rewrite needs no reason",
		tell: "Other words for the same decisions: nobody gets further, nobody is stopped.",
		args: []string{"review", original, "-r", reworded, "--at", now}},
}

var consentSteps = []scene{
	{title: "What client applications ask for, and who may say yes",
		tell: "People used to click yes. What they clicked through before anybody had a say is taken into the ledger, with what is known of the clients.",
		args: []string{"consent", "import", "--at", now, original + "/consents/clients.json", original + "/consents/past.csv"}},
	{title: "A harmless widget passes",
		tell: "Tide Times, of a verified publisher, only wants to know who signs on. Nobody needs to look at that.",
		args: []string{"consent", "ask", "--at", now, "user", "mira.holt", "app", "noticeboard", "client", "tide-times", "scopes", "openid, profile", "presenting", "password"}},
	{title: "A note-taking application asks for far too much",
		tell: "Mira would have clicked yes. The policy looks at what is asked for, and sends it to somebody who reads it.",
		args: []string{"consent", "ask", "--at", now, "user", "mira.holt", "app", "crew-roster", "client", "tidy-notes",
			"scopes", "openid, roster.read, contacts.all, mail.read, mail.send, files.all", "presenting", "password"}},
	{title: "The owner of a crew decides for her group, with a proof first",
		tell: "Unni owns the deck crew's group. Watch Swap reads the roster, which weighs less than 60: her word is enough, once she has shown a second factor.",
		args: []string{"consent", "ask", "--at", now, "user", "unni.moe", "app", "crew-roster", "client", "watch-swap",
			"scopes", "openid, roster.read", "for", "group", "deck-crew", "owner", "presenting", "password, passkey"}},
	{title: "So the crew is not asked again",
		tell: "Sten is in the deck crew. What the group holds answers for him.",
		args: []string{"consent", "ask", "--at", "2026-11-23T08:30", "user", "sten.rygg", "app", "crew-roster", "client", "watch-swap", "scopes", "openid, roster.read", "presenting", "password"}},
	{title: "What waits for a review",
		tell: "Embla, of harbour IT, looks at it after the weekend.",
		args: []string{"consent", "waiting", "--at", "2026-11-24T09:00"}},
	{title: "She grants what the notes need, and for this season alone",
		tell: "Whoever asked cannot settle it, nor can anybody outside the group that the policy names.",
		args: []string{"consent", "settle", "c-8", "grant", "--at", "2026-11-24T09:10", "--only", "openid, roster.read", "--until", "2027-03-31",
			"--by", "embla.haug", "--because", "Notes need the roster, not the mail"}},
	{title: "What clients hold, the heaviest first",
		tell: "Quick Figures reads and writes the ledger, because two people once clicked yes.",
		args: []string{"consent", "clients", "--at", "2026-11-24T09:15"}},
	{title: "What today's policies would not give",
		tell: "The audit decides anew on every consent that holds.",
		args: []string{"consent", "audit", "--at", "2026-11-24T09:20"}},
	{title: "A ban",
		tell: "Quick Figures turns out to sell what it reads. Whatever the policies say, it gets nothing any more.",
		args: []string{"consent", "ban", "quick-figures", "--at", "2026-11-24T11:00", "--by", "embla.haug", "--because", "Sells what it reads"}},
	{title: "Everything about one client on one screen",
		tell: "What it holds and held, who agreed, and what was done about it.",
		args: []string{"consent", "show", "quick-figures", "--at", "2026-11-24T11:05"}},
	{title: "And a journal that shows what was changed in it",
		tell: "Every change is chained to the one before.",
		args: []string{"consent", "journal", "--verify", "--at", "2026-11-24T11:10"}},
	{title: "What the policy would have stopped",
		tell: "The requests of four weeks, to which everybody said yes then.",
		args: []string{"replay", original + "/consents/asked.jsonl"}},
}
