package middleware_test

import (
	"fmt"
	"log"
	"net/http"
	"net/http/httptest"
	"testing/fstest"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/middleware"
	"briskwarden.example/briskwarden/signon"
)

const exampleRules = `rulebook quay { }
user ann { methods password, passkey }
app payroll { }
policy passkeys {
  who people
  to  app payroll
  otherwise => step-up passkey every 12h
}
`

// cookies finds the user in a cookie, as no real program would.
type cookies struct{}

func (cookies) SignOn(r *http.Request) (signon.SignOn, bool, error) {
	c, err := r.Cookie("user")
	if err != nil {
		return signon.SignOn{}, false, nil
	}
	return signon.SignOn{User: c.Value}, true, nil
}

func Example() {
	rules, err := briskwarden.OpenFS(fstest.MapFS{"rulebook.warden": {Data: []byte(exampleRules)}})
	if err != nil {
		log.Fatal(err)
	}
	guard := middleware.New(rules, cookies{}, middleware.Options{App: "payroll"})
	salaries := guard(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "This month's salaries.") }))

	for _, user := range []string{"", "ann"} {
		r := httptest.NewRequest(http.MethodGet, "/payroll", nil)
		if user != "" {
			r.AddCookie(&http.Cookie{Name: "user", Value: user})
		}
		w := httptest.NewRecorder()
		salaries.ServeHTTP(w, r)
		fmt.Println(w.Code, w.Header().Get("WWW-Authenticate"))
	}
	// Output:
	// 401 Bearer
	// 401 Bearer error="insufficient_user_authentication", error_description="a stronger or fresher proof is needed", acr_values="aal3", max_age="43200"
}
