package cli

// The chapter of the demo that asks the decision service.

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"briskwarden.example/briskwarden/demo/mailbox"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

// call is a request to the service.
type call struct {
	method, path, body string
	operations         bool   // at the address of operations
	only               string // of an answer in lines: those that begin so
	until              string // of an answer in JSON: where it is cut, since the rest is long
	keep               string // the id of what was made stands for this later on
}

// serving is the service of the demo.
type serving struct {
	address, operations string
	stop                chan struct{}
	done                chan error
}

var servesAt = regexp.MustCompile(`serves \S+ at (\S+)|operations: (http://[^/]+)`)

// mailed starts a service with a mail server that keeps what it gets, asks it, and gives what was typed and the mail.
func (p *stage) mailed(c *call) (told string, err error) {
	arrived := make(chan *mailbox.Letter, 1)
	box, err := mailbox.Listen("127.0.0.1:0", mailbox.Options{Arrived: func(l *mailbox.Letter) {
		select {
		case arrived <- l:
		default:
		}
	}})
	if err != nil {
		return "", usage("%w", err)
	}
	defer box.Close()
	before := p.serving
	defer func() { p.serving = before }()
	started, err := p.serve("--smtp", box.Address(), "--url", "https://brisk.skerry.example")
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, p.end()) }()
	asked, err := p.call(c)
	if err != nil {
		return "", err
	}
	select {
	case l := <-arrived:
		return fmt.Sprintf("%s\n%s\n%s\nTo: %s\nFrom: %s\nSubject: %s\n\n%s", started, asked, p.paint.Bold("The mail:"), l.To, l.From, l.Subject, l.Text), nil
	case <-time.After(20 * time.Second):
		return "", usage("no mail arrived")
	}
}

// serve starts the service, and gives what it says.
func (p *stage) serve(more ...string) (string, error) {
	dir, err := os.MkdirTemp("", "skerry-line-state-")
	if err != nil {
		return "", usage("%w", err)
	}
	args := []string{"serve", "-r", p.dir, "--open", "--listen", "127.0.0.1:0", "--operations", "127.0.0.1:0", "--state", filepath.Join(dir, stateFile)}
	args = append(args, more...)
	from, to := io.Pipe()
	v := &serving{stop: make(chan struct{}), done: make(chan error, 1)}
	quiet := &session{ctx: p.ctx, in: strings.NewReader(""), out: screen.New(to), err: screen.New(io.Discard), side: io.Discard, stop: v.stop}
	command := quiet.command()
	command.SetArgs(args)
	go func() {
		err := command.Execute()
		to.CloseWithError(err)
		v.done <- err
	}()
	var said strings.Builder
	fmt.Fprintf(&said, "%s\n", p.paint.Bold("$ brisk "+spell.Shell(args)))
	buffer := make([]byte, 4096)
	for v.operations == "" {
		n, err := from.Read(buffer)
		if err != nil {
			return "", usage("the service did not start: %w", err)
		}
		said.Write(buffer[:n])
		for _, m := range servesAt.FindAllStringSubmatch(said.String(), -1) {
			v.address, v.operations = v.address+m[1], m[2]
		}
	}
	go func() { _, _ = io.Copy(io.Discard, from) }()
	p.serving = v
	return said.String(), nil
}

// end stops the service, if it was started.
func (p *stage) end() error {
	if p.serving == nil {
		return nil
	}
	close(p.serving.stop)
	err := <-p.serving.done
	p.serving = nil
	return err
}

// call asks the service, and gives the request as a person could type it, and the answer.
func (p *stage) call(c *call) (string, error) {
	fill := strings.NewReplacer(p.kept...)
	address := p.serving.address
	if c.operations {
		address = p.serving.operations
	}
	path, body := fill.Replace(c.path), fill.Replace(c.body)
	r, err := http.NewRequestWithContext(p.ctx, c.method, address+path, strings.NewReader(body))
	if err != nil {
		return "", usage("%w", err)
	}
	typed := []string{"curl", "-s"}
	if c.method != http.MethodGet && c.method != http.MethodPost {
		typed = append(typed, "-X", c.method)
	}
	typed = append(typed, address+path)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
		typed = append(typed, "-H", "Content-Type: application/json", "-d", body)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", usage("%w", err)
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	if err != nil {
		return "", usage("%w", err)
	}
	if id := regexp.MustCompile(`"id":"([0-9a-f]{32})"`).FindSubmatch(text); c.keep != "" && id != nil {
		p.kept = append(p.kept, c.keep, string(id[1]))
	}
	return fmt.Sprintf("%s\n%s\n", p.paint.Bold("$ "+spell.Shell(typed)), c.shown(answer.Status, text)), nil
}

// shown is an answer as the demo shows it.
func (c *call) shown(status string, text []byte) string {
	if len(text) == 0 {
		return status
	}
	if c.only != "" {
		var lines []string
		for line := range strings.Lines(string(text)) {
			if strings.HasPrefix(line, c.only) {
				lines = append(lines, strings.TrimRight(line, "\n"))
			}
		}
		return strings.Join(lines, "\n")
	}
	value := jsontext.Value(bytes.Clone(text))
	if err := value.Indent(jsontext.WithIndent("  ")); err != nil {
		return string(text)
	}
	shown := string(value)
	if cut := strings.Index(shown, "\n    \""+c.until+"\""); c.until != "" && cut >= 0 {
		shown = shown[:cut] + fmt.Sprintf("\n    … and %d more lines, from %q on", strings.Count(shown[cut:], "\n"), c.until)
	}
	return shown
}

// asking is the body of a question to the service.
func asking(user, app, context string) string {
	return fmt.Sprintf(`{"subject":{"type":"user","id":%q},"action":{"name":"sign-on"},"resource":{"type":"app","id":%q},"context":{%s}}`, user, app, context)
}

const evaluationPath = "/access/v1/evaluation"

var serviceSteps = []scene{
	{title: "Serve the rulebook",
		tell:  "Other programs ask over HTTP, by the AuthZEN Authorization API 1.0. To try it, the service is open to this machine; otherwise the rulebook says which callers may ask, and \"brisk token\" makes their tokens.",
		serve: true},
	{title: "Ask for a decision",
		tell: "A web application has verified Mira's password. She is let in, and the service remembers the proof for her session.",
		call: &call{method: "POST", path: evaluationPath, body: asking("mira.holt", "noticeboard", `"ip":"192.0.2.14","client":"browser","session":{"id":"w-81"},"presented":["password"]`), until: "policies"}},
	{title: "Ask again, without a proof",
		tell: "Her next click presents nothing. What she proved in this session counts, until the policy says otherwise.",
		call: &call{method: "POST", path: evaluationPath, body: asking("mira.holt", "noticeboard", `"ip":"192.0.2.14","client":"browser","session":{"id":"w-81"}`), until: "policies"}},
	{title: "End her session",
		tell: "Her tablet is lost. The desk ends the session: once it is answered, every node obeys.",
		call: &call{method: "DELETE", path: "/sessions/v1/mira.holt/w-81"}},
	{title: "The next click is stopped",
		tell: "Whoever has the tablet is blocked, whatever is presented in that session.",
		call: &call{method: "POST", path: evaluationPath, body: asking("mira.holt", "noticeboard", `"ip":"192.0.2.14","client":"browser","session":{"id":"w-81"},"presented":["password"]`), until: "policies"}},
	{title: "Provision somebody",
		tell: "The personnel system states new people by SCIM 2.0, with the methods that they are enrolled in.",
		call: &call{method: "POST", path: "/scim/v2/Users", keep: "{liv}", body: `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"liv.strand","userType":"employee",` +
			`"urn:brisk-warden:params:scim:schemas:SignOn":{"methods":["password","app-code"]}}`}},
	{title: "Put her into a group",
		tell: "Policies name groups that the rulebook declares; the personnel system says who is in them.",
		call: &call{method: "POST", path: "/scim/v2/Groups", body: `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"deck-crew","members":[{"value":"{liv}"}]}`}},
	{title: "What she gets to",
		tell: "The search names what is granted under the given circumstances, and remembers nothing.",
		call: &call{method: "POST", path: "/access/v1/search/resource", body: `{"subject":{"type":"user","id":"liv.strand"},"action":{"name":"sign-on"},"resource":{"type":"app"},` +
			`"context":{"ip":"192.0.2.14","client":"browser","presented":["password","app-code"]}}`}},
	{title: "Watch it",
		tell: "Metrics are for Prometheus, without names of people; /readyz says whether the state answers and the rulebook could be read.",
		call: &call{method: "GET", path: "/metrics", operations: true, only: "brisk_decisions_total"}},
}
