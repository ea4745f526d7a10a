package rulebook_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
)

const outside = `rulebook r { texts "texts/*.json" }
user ann { } user svc { type service }
app roster { url "https://roster.skerry.example/*" }
app admin { url "https://roster.skerry.example/admin/*" }
issuer desk { url "https://desk.skerry.example" keys "keys.json" audience "brisk" cookie "desk" who people sign-on "https://desk.skerry.example/in" }
issuer machines { url "http://127.0.0.1:7580" keys "https://machines.skerry.example/keys" audience "brisk" who type service sign-on "http://desk.harbour.localhost:1/in" }
signals fleet { from "https://fleet.skerry.example" keys "keys.json" audience "brisk" accept session-revoked poll "https://fleet.skerry.example/p" token-in FLEET_TOKEN }
alert a { when user.type is guest on block, grant who everyone to app roster at most 3 per app every 4h tell "mailto:desk@skerry.example", "https://h.skerry.example/x" secret-in HOOK }
alert b { when network.trusted at most 1 per user every 1h tell "mailto:desk@skerry.example" }
digest d { every mon, wed-fri at 07:00 in "Europe/Oslo" tell "mailto:desk@skerry.example" }
policy p { who everyone to everything otherwise => block }
`

const goodKeys = `{"keys":[{"kty":"OKP","crv":"Ed25519","kid":"a","x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}]}`

// TestWhatComesFromOutside: who is believed from outside is told apart, and what cannot be is an error with its place.
func TestWhatComesFromOutside(t *testing.T) {
	load := func(rules, keys, texts string) (errors, warnings []string) {
		rb := rulebook.Load(fstest.MapFS{"rulebook.warden": {Data: []byte(rules)}, "keys.json": {Data: []byte(keys)}, "texts/nb.json": {Data: []byte(texts)}}, rulebook.Options{})
		for _, d := range rb.Diagnostics {
			if d.Severity == diag.Error {
				errors = append(errors, d.Message)
			} else {
				warnings = append(warnings, d.Message)
			}
		}
		return errors, warnings
	}
	const texts = `{"Help":"Hjelp","password":"passord"}`
	errors, warnings := load(outside, goodKeys, texts)
	require.Empty(t, errors)
	require.Empty(t, warnings)
	for change, want := range map[[2]string]string{
		{`admin/*" }`, `*" }`}: `the app "roster" has the same address`,
		{`https://roster.skerry.example/admin/*`, `https://*/x`}:                                                                       "cannot be an app's address",
		{`app admin { url "https`, `app admin { url "ftp`}:                                                                             "cannot be an app's address",
		{`who type service`, `who everyone`}:                                                                                           `both speak for "ann"`,
		{`http://127.0.0.1:7580`, `https://desk.skerry.example`}:                                                                       "has the same address",
		{`http://127.0.0.1:7580`, `http://desk.skerry.example`}:                                                                        "does not begin with https://",
		{`https://desk.skerry.example/in`, `https://u@desk.skerry.example/in`}:                                                         "holds a name",
		{`https://desk.skerry.example/in`, `javascript:alert(1)`}:                                                                      "is no address",
		{`cookie "desk"`, `cookie "desk;x"`}:                                                                                           "cannot be a cookie's name",
		{`audience "brisk" cookie`, `audience " " cookie`}:                                                                             "an empty name stands for nothing",
		{`audience "brisk" cookie`, `audience "brisk" audience "roster" for app roster audience "x" for app admin, app roster cookie`}: `both for "roster"`,
		{`audience "brisk" cookie`, `audience "brisk" audience "other" cookie`}:                                                        "for all other apps",
		{`audience "brisk" cookie`, `audience "brisk" audience "brisk" for app roster cookie`}:                                         "is there twice",
		{`audience "brisk" cookie`, `audience "brisk" audience "roster" for app rooster cookie`}:                                       "rooster",
		{`keys "keys.json" audience "brisk" cookie`, `keys "none.json" audience "brisk" cookie`}:                                       "cannot be read",
		{`accept session-revoked`, `accept session-revoke`}:                                                                            `"session-revoke" is no event`,
		{`token-in FLEET_TOKEN`, `token-in "s3cret-token!"`}:                                                                           "cannot be a variable's name",
		{`at most 3 per`, `at most 0 per`}:                                                                                             "is no whole number",
		{`mailto:desk@skerry.example", "https`, `mailto:desk@skerry.example?cc=x@skerry.example", "https`}:                             "asks for a subject or a text",
		{`mailto:desk@skerry.example", "https`, `mailto:desk", "https`}:                                                                "is no mail address",
		{`mailto:desk@skerry.example", "https`, `mailto:Desk <desk@skerry.example>", "https`}:                                          "is no mail address",
		{`"https://h.skerry.example/x"`, `"http://h.skerry.example/x"`}:                                                                "does not begin with https://",
		{`"mailto:desk@skerry.example" }`, `"mailto:desk@skerry.example" secret-in X }`}:                                               "a mail is signed by no secret",
		{`mon, wed-fri at 07:00`, `mon, sun-tue at 07:00`}:                                                                             "Monday stands twice",
		{`mon, wed-fri at 07:00`, `monday at 07:00`}:                                                                                   "is no day",
		{`mon, wed-fri at 07:00`, `mon at 7:00`}:                                                                                       "write 07:00",
		{`mon, wed-fri at 07:00`, `mon at 24:00`}:                                                                                      "of the next day",
		{`in "Europe/Oslo" tell`, `in "Europe/Osl" tell`}:                                                                              "there is no time zone",
		{`tell "mailto:desk@skerry.example" }
policy`, `tell "desk@skerry.example" }
policy`}: "is no address",
		{`every 1h tell`, `every 0m tell`}: "counted over some time",
	} {
		src := strings.Replace(outside, change[0], change[1], 1)
		require.NotEqual(t, outside, src, change)
		errors, _ := load(src, goodKeys, texts)
		require.NotEmpty(t, errors, change)
		require.Contains(t, strings.Join(errors, "\n"), want)
	}
	for keys, want := range map[string]string{
		`{"keys":[]}`: "no key that can verify", `[]`: "it is no JWK set", `{"keys":[{"kty":"oct","k":"c2VjcmV0"}]}`: "a secret key",
		strings.Replace(goodKeys, `"kid"`, `"d":"nWGxne_9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A","kid"`, 1): "a private key", `{"keys":[{"kty":"RSA","n":"AQAB","e":"AQAB"}]}`: "2048 to 8192 bits",
		`{"keys":[{"kty":"EC","crv":"P-256","x":"AA","y":"AA"}]}`: "cannot be read", `{"keys":[` + goodKeys[9:len(goodKeys)-2] + "," + goodKeys[9:len(goodKeys)-2] + `]}`: `the same "kid"`,
		strings.Replace(goodKeys, `"kid"`, `"use":"enc","kid"`, 1): "no key that can verify", `{"keys":[1]}`: "its key 1", "": "it is no JWK set",
	} {
		errors, _ := load(outside, keys, texts)
		require.NotEmpty(t, errors, keys)
		require.Contains(t, errors[0], want)
	}
	for said, want := range map[string]string{
		`{"Help":""}`: "is nothing", `{"Help":7}`: "expected {", `[]`: "expected {", `{"Help":"a","Help":"b"}`: "expected {",
		`{"Change your password.":"{name}"}`: "nothing else in braces", `{"You asked for “{app}” on {date} at {time}.":"{app}"}`: "is to have {app}",
	} {
		errors, _ := load(outside, goodKeys, said)
		require.Len(t, errors, 1, said)
		require.Contains(t, errors[0], want)
	}
	_, warnings = load(outside, goodKeys, `{"Helpp":"Hjelp"}`)
	require.Len(t, warnings, 1)
	require.Contains(t, warnings[0], `says "Helpp", which nobody is ever told`)
}
