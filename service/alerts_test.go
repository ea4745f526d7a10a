package service_test

import (
	"encoding/base64"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/demo/mailbox"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/store/sqlite"
)

// hook is a program that is told of alerts.
type hook struct {
	*httptest.Server
	answer func(n int) int // the status of the answer to the n-th request

	mu   sync.Mutex
	seen []posted
}

type posted struct {
	header http.Header
	body   string
	status int
	told   struct {
		Type      string         `json:"type"`
		Timestamp time.Time      `json:"timestamp"`
		Data      map[string]any `json:"data"`
	}
}

func hooked(t *testing.T, answer func(n int) int) *hook {
	h := &hook{answer: answer}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		p := posted{header: r.Header, body: string(body)}
		if err := json.Unmarshal(body, &p.told); err != nil {
			t.Error(err)
		}
		h.mu.Lock()
		p.status = http.StatusNoContent
		if h.answer != nil {
			p.status = h.answer(len(h.seen) + 1)
		}
		h.seen = append(h.seen, p)
		h.mu.Unlock()
		w.WriteHeader(p.status)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) got() []posted {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]posted(nil), h.seen...)
}

// url is the address of the hook as a rulebook may have it.
func (h *hook) url() string { return strings.Replace(h.URL, "127.0.0.1", "localhost", 1) }

func eventually(t *testing.T, what func() bool) {
	t.Helper()
	require.Eventually(t, what, 20*time.Second, 20*time.Millisecond)
}

var hookSecret = "whsec_" + base64.StdEncoding.EncodeToString([]byte("a secret for trying things out"))

// TestAlertsAreSent tells a mailbox and a program, whom both can believe, and holds back what the alert says.
func TestAlertsAreSent(t *testing.T) {
	t.Setenv("DESK_HOOK", hookSecret)
	box, err := mailbox.Listen("127.0.0.1:0", mailbox.Options{})
	require.NoError(t, err)
	defer box.Close()
	h := hooked(t, nil)
	rules := ferryRules() + fmt.Sprintf(`
alert abroad {
  about "Somebody signs on from abroad"
  when  network in abroad
  on    block, step-up
  at    most 1 per user every 4h
  tell  "mailto:desk@skerry.example", %q secret-in DESK_HOOK
}
`, h.url())
	s := serve(t, rules, service.Options{Mail: service.Mail{Server: box.Address(), From: "brisk@skerry.example"}})
	require.Equal(t, "grant", s.outcome("web", "ann", "roster", `"session":{"id":"s"},"presented":["password"]`))
	require.Equal(t, "step-up", s.outcome("web", "ann", "vault", `"ip":"192.0.2.1"`), "from elsewhere")
	for range 3 {
		require.Equal(t, "step-up", s.outcome("web", "ann", "vault", `"id":"r17","ip":"198.51.100.7"`))
	}
	require.Equal(t, "block", s.outcome("web", "<b>eve</b>\r\nSubject: x", "vault", `"ip":"198.51.100.7"`), "whom nobody knows")
	require.Equal(t, "block", s.outcome("web", "ann", "log", `"time":"2026-01-01T00:00:00Z","ip":"198.51.100.7"`), "what is made up alerts nobody")
	eventually(t, func() bool { return len(box.Letters()) == 2 && len(h.got()) == 2 })

	letter := func(about string) *mailbox.Letter {
		i := slices.IndexFunc(box.Letters(), func(l *mailbox.Letter) bool { return strings.Contains(l.Subject, about) })
		return box.Letters()[i]
	}
	l := letter("ann")
	require.Equal(t, "abroad: ann was asked for more proof at vault", l.Subject)
	require.Equal(t, "desk@skerry.example", l.To)
	first, rest, _ := strings.Cut(l.Text, "\n")
	require.Equal(t, `ann was asked for more proof at vault: vault "otherwise"`, first)
	for _, part := range []string{"198.51.100.7 is in abroad", "Alert abroad: Somebody signs on from abroad\n  when network in abroad", "What else ann did that day", "grant    roster",
		"brisk about user ann", "brisk decide --id r17 --requests LOG"} {
		require.Contains(t, rest, part)
		if !strings.Contains(part, "\n") && !strings.Contains(part, "ann did") {
			require.Contains(t, l.HTML, part)
		}
	}
	eve := letter("eve")
	require.NotContains(t, eve.HTML, "<b>")
	require.NotContains(t, eve.Text, "\nSubject: x")
	head, _, _ := strings.Cut(string(eve.Raw), "\r\n\r\n")
	require.Equal(t, 1, strings.Count(head, "\nSubject:"))

	p := h.got()[slices.IndexFunc(h.got(), func(p posted) bool { return p.told.Data["user"] == "ann" })]
	verify, err := standardwebhooks.NewWebhook(hookSecret)
	require.NoError(t, err)
	require.NoError(t, verify.Verify([]byte(p.body), p.header))
	require.Error(t, verify.Verify([]byte(p.body+" "), p.header))
	require.Equal(t, "alert", p.told.Type)
	for field, want := range map[string]any{"alert": "abroad", "user": "ann", "app": "vault", "outcome": "step-up", "id": "r17", "held": 0.0, "rulebook": "ferry"} {
		require.Equal(t, want, p.told.Data[field], field)
	}
	require.NotEqual(t, h.got()[0].header.Get("webhook-id"), h.got()[1].header.Get("webhook-id"))

	s.state.pass(4 * time.Hour)
	require.Equal(t, "step-up", s.outcome("web", "ann", "vault", `"ip":"198.51.100.7"`))
	eventually(t, func() bool { return len(box.Letters()) == 3 })
	require.Contains(t, box.Letters()[2].Text, "2 more alerts like this came since the last one that was sent.")
	s.state.pass(30 * time.Hour)
	require.Equal(t, "step-up", s.outcome("web", "ann", "vault", `"ip":"198.51.100.7"`))
	eventually(t, func() bool { return len(box.Letters()) == 4 })
	require.NotContains(t, box.Letters()[3].Text, "What else", "that was another day")
	require.Contains(t, s.operation("/metrics").Body.String(), `brisk_messages_total{result="delivered"} `)
}

// TestMailIsEncrypted gives a password to who can keep it, and mail to nobody else.
func TestMailIsEncrypted(t *testing.T) {
	t.Setenv("BRISK_SMTP_USER", "brisk")
	t.Setenv("BRISK_SMTP_PASSWORD", "made up")
	box, err := mailbox.Listen("127.0.0.1:0", mailbox.Options{Name: "brisk", Password: "made up"})
	require.NoError(t, err)
	defer box.Close()
	var log strings.Builder
	s := serve(t, ferryRules()+"\nalert any { when network in ashore tell \"mailto:desk@skerry.example\" }", service.Options{Log: slogTo(&log),
		Mail: service.Mail{Server: box.Address(), From: "brisk@skerry.example"}})
	s.outcome("web", "ann", "roster", `"ip":"127.0.0.1"`)
	eventually(t, func() bool { return len(s.failing()) == 1 })
	require.Empty(t, box.Letters(), "no password in the clear")
	require.NotContains(t, log.String(), "made up")
}

// TestReceiverAway tries again, with the same id, and delays nobody else.
func TestReceiverAway(t *testing.T) {
	t.Setenv("DESK_HOOK", "whsec_"+base64.StdEncoding.EncodeToString([]byte("too short to be one")))
	down := hooked(t, func(n int) int { return map[bool]int{true: 204, false: 503}[n > 1] })
	elsewhere := hooked(t, nil)
	moved := hooked(t, func(int) int { return 307 })
	rules := ferryRules() + fmt.Sprintf("\nalert any { when network in ashore tell %q, %q, %q, %q secret-in DESK_HOOK, \"mailto:desk@skerry.example\" }", down.url(), elsewhere.url(), moved.url(), elsewhere.url()+"/signed")
	s := serve(t, rules, service.Options{})
	s.outcome("web", "ann", "roster", `"ip":"127.0.0.1"`)
	eventually(t, func() bool { return len(elsewhere.got()) == 1 })
	eventually(t, func() bool { return len(down.got()) == 2 })
	require.Equal(t, down.got()[0].header.Get("webhook-id"), down.got()[1].header.Get("webhook-id"))
	require.Equal(t, down.got()[0].body, down.got()[1].body)
	require.Empty(t, down.got()[0].header.Get("webhook-signature"), "no secret is named")
	eventually(t, func() bool { return len(s.failing()) == 3 }) // and nothing unsigned where a secret is named
	why := s.failing()
	require.Contains(t, strings.Join(why, "\n"), "the answer is 307")
	require.Contains(t, strings.Join(why, "\n"), "no secret of Standard Webhooks")
	require.Contains(t, strings.Join(why, "\n"), "was given no mail server")
	require.Len(t, elsewhere.got(), 1)
}

// failing says why messages that wait were not sent.
func (s *served) failing() (why []string) {
	for m, err := range service.Messages(s.Context(), s.state) {
		require.NoError(s, err)
		if m.Tries > 0 {
			why = append(why, m.Why)
		}
	}
	return why
}

func slogTo(w io.Writer) *slog.Logger { return slog.New(slog.NewTextHandler(w, nil)) }

// TestSprayIsCapped sends no receiver more than sixty an hour, and then one summary.
func TestSprayIsCapped(t *testing.T) {
	h := hooked(t, nil)
	s := serve(t, ferryRules()+fmt.Sprintf("\nalert unknown { when network in ashore or network in abroad tell %q }", h.url()), service.Options{})
	for i := range 200 {
		s.outcome("web", fmt.Sprintf("nobody%d", i), "roster", `"ip":"198.51.100.7"`)
	}
	eventually(t, func() bool { return len(h.got()) == 60 })
	s.state.pass(time.Hour)
	s.outcome("web", "last", "roster", `"ip":"198.51.100.7"`)
	eventually(t, func() bool { return len(h.got()) == 62 })
	kinds := map[string]posted{}
	for _, p := range h.got()[60:] {
		kinds[p.told.Type] = p
	}
	require.Equal(t, "last", kinds["alert"].told.Data["user"])
	require.Contains(t, kinds, "alert-summary")
	require.Len(t, kinds["alert-summary"].told.Data["users"], 5)
}

// TestDigestIsSent sends a digest at its hour, once whatever the number of nodes, and at the next start where all were down.
func TestDigestIsSent(t *testing.T) {
	h := hooked(t, nil)
	folder := t.TempDir()
	signOns, err := service.OpenLog(folder, "n1")
	require.NoError(t, err)
	defer signOns.Close()
	now := time.Now().UTC()
	at := now.Add(-23 * time.Hour) // of yesterday
	rules := ferryRules() + fmt.Sprintf("\ndigest week { every %s at %s in \"UTC\" tell %q }\n", strings.ToLower(at.Format("Mon")), at.Format("15:04"), h.url())
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer store.Close()
	log := fmt.Sprintf(`{"subject":{"id":"ann"},"resource":{"id":"roster"},"context":{"time":%q,"outcome":"grant"}}`+"\n", at.Add(-48*time.Hour).Format(time.RFC3339))
	require.NoError(t, os.WriteFile(filepath.Join(folder, at.Format(time.DateOnly)+".n2.jsonl"), []byte(log), 0o600))
	first := serveOn(t, rules, service.Options{SignOns: signOns}, store)
	serveOn(t, rules, service.Options{SignOns: signOns}, store)
	require.Equal(t, "grant", first.outcome("web", "ann", "roster", `"session":{"id":"s"},"presented":["password"]`))
	eventually(t, func() bool { return len(h.got()) > 0 })
	require.NoError(t, first.Close())
	third := serveOn(t, rules, service.Options{SignOns: signOns}, store)
	soon()
	require.Len(t, h.got(), 1)
	p := h.got()[0].told
	require.Equal(t, "digest", p.Type)
	require.Equal(t, "week", p.Data["name"])
	require.Equal(t, 1.0, p.Data["sign_ons"].(map[string]any)["now"], "in the logs of all nodes")
	require.Equal(t, at.Truncate(time.Minute).Format(time.RFC3339), p.Data["to"])
	require.NoError(t, third.Close())

	fourth := serve(t, strings.Replace(rules, "in \"UTC\"", "in \"Pacific/Kiritimati\"", 1), service.Options{}) // 14 hours ahead: more than a day ago
	soon()
	require.Len(t, h.got(), 1, "too late to tell")
	require.NoError(t, fourth.Close())
}

// TestAlertsWhileTheStateIsAway are in the log alone.
func TestAlertsWhileTheStateIsAway(t *testing.T) {
	var log strings.Builder
	s := serve(t, ferryRules()+"\nalert opened { when user.id is root.key on grant tell \"mailto:desk@skerry.example\" }", service.Options{Log: slogTo(&log)})
	s.state.away.Store(true)
	require.Equal(t, "grant", s.outcome("web", "root.key", "roster", `"presented":["security-key"]`))
	require.Contains(t, log.String(), `msg="an alert was raised that is not in the outbox" alert=opened user=root.key app=roster`)
}
