package main

import (
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/store/sqlite"
)

func TestAsking(t *testing.T) {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte("rulebook r { }\nuser mira.holt { methods password }\napp noticeboard { }\n" +
		"policy p { who everyone to everything otherwise => grant }\n")}})
	require.NoError(t, err)
	store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer store.Close()
	s := service.New(rules, store, service.Options{Open: true})
	defer s.Close()
	server := httptest.NewServer(s)
	defer server.Close()
	d, err := ask(t.Context(), server.URL, "", signon.SignOn{User: "mira.holt", Action: "sign-on", App: "noticeboard", Presented: []string{"password"}})
	require.NoError(t, err)
	require.Equal(t, signon.Grant, d.Outcome)
	d, err = ask(t.Context(), server.URL, "", signon.SignOn{User: "mira.holt", Action: "sign-on", App: "noticeboard"})
	require.NoError(t, err)
	require.Equal(t, signon.StepUp, d.Outcome)
	broken := httptest.NewServer(http.NotFoundHandler())
	defer broken.Close()
	d, err = ask(t.Context(), broken.URL, "", signon.SignOn{User: "mira.holt", Action: "sign-on", App: "noticeboard"})
	require.ErrorContains(t, err, "404")
	require.Equal(t, signon.Block, d.Outcome)
}
