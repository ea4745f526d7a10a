package ready_test

import (
	"fmt"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/ready"
)

const rules = `rulebook r { timezone "Europe/Oslo" break-glass user root => security-key every time devices "fleet.jsonl" }
user root { methods security-key }
user ann { groups pilot  methods password }
user bob { methods password, passkey }
user cleo { methods password  joined 2027-01-20 }
user dan { methods password  active no }
user svc { type service  methods password }
group pilot { }
app news { }
app pay { }
baseline machine { check "Managed" device.managed check "Fresh" device.reported within 24h }
`

func TestFind(t *testing.T) {
	at := func(text string) time.Time {
		zone, err := time.LoadLocation("Europe/Oslo")
		require.NoError(t, err)
		d, err := time.ParseInLocation(time.DateOnly, text, zone)
		require.NoError(t, err)
		return d
	}
	now := at("2026-11-23").Add(9 * time.Hour)
	const fleet = `{"id":"good","owner":"ann","form":"laptop","managed":true,"reported":"2026-11-23T05:00:00Z"}` + "\n" +
		`{"id":"old","owner":"bob","form":"laptop","managed":true,"reported":"2026-11-20T05:00:00Z"}` + "\n" + `{"id":"hall","form":"desktop","managed":true,"reported":"2026-11-23T05:00:00Z"}` + "\n" + `{"id":"shared","managed":true}` + "\n"
	for _, c := range []struct {
		policy, by string
		want       []string
	}{
		{"who people to app news otherwise => step-up passkey", "", []string{"ann passkey already", "cleo passkey already"}},
		{"who people to app news otherwise => step-up passkey or password", "", nil},
		{"who everyone except user svc to app news otherwise => step-up (passkey or app-code) and password", "", []string{"ann passkey, or app-code already", "cleo passkey, or app-code already"}},
		{"who people to app news stage enforce from 2027-02-01 otherwise => step-up passkey", "", nil},
		{"who people to app news stage enforce from 2027-02-01 otherwise => step-up passkey", "2027-01-31", nil},
		{"who people to app news stage enforce from 2027-02-01 otherwise => step-up passkey", "2027-02-01", []string{"ann passkey 2027-02-01", "cleo passkey 2027-02-01"}},
		{"who people to app news stage enforce for group pilot from 2026-12-01 stage enforce from 2027-02-01 otherwise => step-up passkey", "2027-02-01", []string{"ann passkey 2026-12-01", "cleo passkey 2027-02-01"}},
		{"who people to app news stage enforce from 2026-12-01 otherwise => step-up password and enrol passkey grace 21d", "2026-12-01", []string{"ann passkey 2026-12-22", "cleo passkey 2027-02-10"}},
		{"who people to app news stage draft otherwise => step-up passkey", "", nil},
		{"who people to app news case \"a\" when device.form is laptop => step-up device meets machine otherwise => grant", "", []string{"bob old: Fresh already", "cleo no device in the inventory already"}},
		{"who people to app news case \"a\" when device.form is tablet => step-up device meets machine otherwise => grant", "", []string{"cleo no device in the inventory already"}},
		{"who people to app news otherwise => step-up device meets machine or password", "", nil},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news lifts passkey until 2026-12-31", "", nil},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app pay lifts passkey until 2026-12-31", "", []string{"svc passkey already"}},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news lifts passkey until 2026-12-31", "2027-01-01", []string{"svc passkey 2027-01-01"}},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news when network is unknown lifts passkey until 2026-12-31", "", []string{"svc passkey already"}},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news when user.type is service lifts passkey until 2026-12-31", "", nil},
		{"who user svc to app news otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news when user.type is guest lifts passkey until 2026-12-31", "", []string{"svc passkey already"}},
		{"who people to app news case \"a\" when device.form is desktop => step-up device meets machine otherwise => grant", "", nil}, // anybody may use the desk in the hall
		{"who user root to app news otherwise => step-up passkey", "", nil},
		{"who people to app news case \"a\" when user.id is ann => abstain otherwise => step-up passkey", "", []string{"cleo passkey already"}},
		{"who people to app news case \"a\" when group in pilot => grant otherwise => step-up passkey", "", []string{"cleo passkey already"}},
		{"who people to app news case \"a\" when not user.joined within 30d and user.joined is known => grant otherwise => step-up passkey", "2027-03-01", []string{"ann passkey already", "cleo passkey already"}},
		{"who people to app news otherwise => step-up passkey }\npolicy q { who user ann to everything otherwise => block", "", []string{"cleo passkey already"}},
		{"who people to app news otherwise => step-up passkey }\npolicy q { who user ann to app pay otherwise => block", "", []string{"ann passkey already", "cleo passkey already"}},
		{"who user svc to app news, app pay otherwise => step-up passkey }\nwaiver w { because \"x\" owner \"y\" who user svc to app news lifts passkey until 2026-12-31", "", []string{"svc passkey already"}},
	} {
		rb, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(rules + "policy p { " + c.policy + " }\n")}, "fleet.jsonl": {Data: []byte(fleet)}},
			briskwarden.WithClock(func() time.Time { return now }))
		require.NoError(t, err, c.policy)
		by := now
		if c.by != "" {
			by = at(c.by).Add(23 * time.Hour)
		}
		var got []string
		found, err := ready.Find(t.Context(), rb, by)
		require.NoError(t, err)
		for _, g := range found.Gaps {
			deadline := "already"
			if !g.Deadline.IsZero() {
				deadline = g.Deadline.In(rb.Zone()).Format(time.DateOnly)
			}
			got = append(got, fmt.Sprint(g.Person, " ", g.Missing, " ", deadline))
		}
		require.Equal(t, c.want, got, "%s by %s", c.policy, c.by)
	}
}

// TestPeople: who is stopped already comes first, whichever of the gaps says so.
func TestPeople(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 12, n, 0, 0, 0, 0, time.UTC) }
	var order []string
	for _, p := range (&ready.Report{Gaps: []ready.Gap{
		{Person: "late", Deadline: day(9)}, {Person: "soon", Deadline: day(8)}, {Person: "late", Deadline: day(4)},
		{Person: "now", Deadline: day(20)}, {Person: "now"},
	}}).People() {
		order = append(order, fmt.Sprint(p.ID, " ", len(p.Gaps), " ", p.Deadline.IsZero()))
	}
	require.Equal(t, []string{"now 2 true", "late 2 false", "soon 1 false"}, order)
}
