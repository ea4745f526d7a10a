package report_test

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/reach"
	"briskwarden.example/briskwarden/ready"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
)

// many is a rulebook of 400 people and 40 apps, with names that a page must not take for its own.
func many(t *testing.T) *briskwarden.Rulebook {
	var b strings.Builder
	b.WriteString("rulebook many { timezone \"Europe/Oslo\" unmatched grant floor none }\nnetwork quay { 192.0.2.0/24 }\nschedule evening { mon-sun 18:00-24:00 }\n")
	for i := range 400 {
		fmt.Fprintf(&b, "user u%d { groups g%d  methods password }\n", i, i%7)
	}
	for i := range 40 {
		fmt.Fprintf(&b, "app a%d { }\npolicy p%d { who group g%d to app a%d case \"<b>at & from\" when network in quay => grant case \"late\" when time in evening => step-up password and passkey otherwise => block }\n", i, i, i%7, i)
	}
	b.WriteString("policy watched { who everyone to everything stage watch case \"late\" when time in evening => block otherwise => abstain }\n")
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(b.String())}}, briskwarden.WithClock(func() time.Time {
		return time.Date(2026, 8, 3, 9, 0, 0, 0, time.UTC)
	}))
	require.NoError(t, err)
	return rules
}

// logOf are made-up sign-ons over as many days.
func logOf(lines, days int) string {
	var b strings.Builder
	dice := rand.New(rand.NewPCG(1, 2))
	start := time.Date(2026, 8, 3, 0, 0, 0, 0, time.UTC)
	for i := range lines {
		at := start.Add(time.Duration(i) * (time.Duration(days) * 24 * time.Hour / time.Duration(lines)))
		fmt.Fprintf(&b, `{"subject":{"type":"user","id":"u%d"},"action":{"name":"sign-on"},"resource":{"type":"app","id":"a%d"},"context":{"time":"%s","ip":"%s","outcome":"grant"}}`+"\n",
			dice.IntN(400), dice.IntN(40), at.Format(time.RFC3339), []string{"192.0.2.7", "198.51.100.7"}[dice.IntN(2)])
	}
	return b.String()
}

func summary(t *testing.T, rb *briskwarden.Rulebook, log string) *replay.Summary {
	s, err := replay.Run(t.Context(), rb, []replay.Log{{Name: "log", In: strings.NewReader(log)}}, replay.Options{})
	require.NoError(t, err)
	return s
}

// tables are the texts of the cells of all tables of a page, whose tags must close as they open.
func tables(t *testing.T, page string) (all [][][]string) {
	d := xml.NewDecoder(strings.NewReader(page))
	d.Strict, d.AutoClose, d.Entity = false, xml.HTMLAutoClose, xml.HTMLEntity
	in := false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return all
		}
		require.NoError(t, err)
		switch token := token.(type) {
		case xml.StartElement:
			require.NotContains(t, []string{"script", "link", "img", "iframe"}, token.Name.Local, "a page needs nothing else")
			switch last := len(all) - 1; token.Name.Local {
			case "table":
				all = append(all, nil)
			case "tr":
				all[last] = append(all[last], nil)
			case "td", "th":
				row := &all[last][len(all[last])-1]
				*row = append(*row, "")
				in = true
			}
		case xml.EndElement:
			in = in && token.Name.Local != "td" && token.Name.Local != "th"
		case xml.CharData:
			if in {
				table := all[len(all)-1]
				row := table[len(table)-1]
				row[len(row)-1] += string(token)
			}
		}
	}
}

func number(t *testing.T, text string) int {
	if text == "·" {
		return 0
	}
	n, err := strconv.Atoi(strings.ReplaceAll(text, ",", ""))
	require.NoError(t, err)
	return n
}

// sums adds up the columns "all", "block", "step-up" and "grant" of the first table with a row of that name.
func sums(t *testing.T, all [][][]string, first string) (sums [4]int) {
	for _, table := range all {
		if !slices.ContainsFunc(table, func(row []string) bool { return row[0] == first }) {
			continue
		}
		require.Equal(t, []string{"all", "block", "step-up", "grant"}, table[0][2:])
		for _, row := range table[1:] {
			for i := range sums {
				sums[i] += number(t, row[2+i])
			}
		}
		return sums
	}
	t.Fatal("there is no table with ", first)
	return sums
}

func TestPageOfALongReplay(t *testing.T) {
	rb := many(t)
	for _, days := range []int{28, 400} {
		s := summary(t, rb, logOf(100_000, days))
		var page bytes.Buffer
		p := report.Replay(rb, s)
		require.NoError(t, p.Write(&page))
		require.Less(t, page.Len(), 1_000_000)
		all := tables(t, page.String())
		want := [4]int{100_000, s.Outcomes[0], s.Outcomes[1], s.Outcomes[3]}
		require.NotContains(t, want, 0)
		first := map[int]string{28: "2026-08-03", 400: "2026-08"}[days]
		require.Equal(t, want, sums(t, all, first), "every sign-on is in the chart over time")
		require.NotContains(t, page.String(), "<b>at", "a name is no markup")
		require.Contains(t, page.String(), "&lt;b&gt;at &amp; from")
		require.Contains(t, page.String(), "and 25 more", "of 40 apps 15 have a bar")
		require.Contains(t, p.Say[0].Text, "of 400 people")
		var again bytes.Buffer
		require.NoError(t, report.Replay(rb, summary(t, rb, logOf(100_000, days))).Write(&again))
		require.Equal(t, page.String(), again.String())
	}
}

func TestPageOfNothing(t *testing.T) {
	rb := many(t)
	var page bytes.Buffer
	require.NoError(t, report.Replay(rb, summary(t, rb, "")).Write(&page))
	require.NoError(t, report.Ready(rb, &ready.Report{}).Write(&page))
	require.NoError(t, report.Compare(rb, rb, &replay.Comparison{}).Write(&page))
	require.Contains(t, page.String(), "Everybody is ready")
	require.Contains(t, page.String(), "Nothing changes for 0 sign-ons")
}

func TestPageOfReadiness(t *testing.T) {
	rb := many(t)
	found, err := ready.Find(t.Context(), rb, time.Date(2026, 8, 3, 9, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	var page bytes.Buffer
	require.NoError(t, report.Ready(rb, found).Write(&page))
	require.Contains(t, page.String(), "400 people are not ready")
	stopped := 0
	for _, table := range tables(t, page.String()) {
		if table[1][0] == "g0" {
			for _, row := range table[1:] {
				stopped += number(t, row[3])
			}
		}
	}
	require.Equal(t, 400, stopped, "everybody is in one group of the chart")
}

func TestChartsAreDrawn(t *testing.T) {
	rb := many(t)
	s := summary(t, rb, logOf(2_000, 20))
	charts := report.Replay(rb, s).Charts()
	matrix, err := reach.All(t.Context(), rb, reach.Circumstance{})
	require.NoError(t, err)
	charts = append(charts, report.Reach(matrix))
	dir := t.TempDir()
	n, err := report.Save(dir, charts)
	require.NoError(t, err)
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, files, 2*n, "no chart takes the name of another")
	for _, f := range files {
		data, err := os.ReadFile(filepath.Join(dir, f.Name()))
		require.NoError(t, err)
		if filepath.Ext(f.Name()) == ".svg" {
			require.NoError(t, xml.Unmarshal(data, new(struct{ XMLName xml.Name })), f.Name())
			continue
		}
		picture, err := png.Decode(bytes.NewReader(data))
		require.NoError(t, err)
		colours, corner := map[any]bool{}, picture.At(0, 0)
		bounds := picture.Bounds()
		for x := range bounds.Dx() {
			require.Equal(t, corner, picture.At(x, 0), "%s is cut off", f.Name())
			for y := range bounds.Dy() {
				colours[picture.At(x, y)] = true
			}
		}
		require.Greater(t, len(colours), 10, f.Name())
	}
}
