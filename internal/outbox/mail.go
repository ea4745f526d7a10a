package outbox

// Messages to people, by SMTP (RFC 5321).

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
)

// Mail says by which server mail is sent.
type Mail struct {
	Server string // host and port; empty: mail cannot be sent
	From   string // the address that it comes from
}

// The variables of the environment with the name and password for the mail server; without a name none is given.
const (
	MailUser     = "BRISK_SMTP_USER"
	MailPassword = "BRISK_SMTP_PASSWORD"
)

// Check reports what of the settings cannot be.
func (m *Mail) Check() error {
	if m.Server == "" {
		return nil
	}
	host, port, err := net.SplitHostPort(m.Server)
	if n, bad := strconv.Atoi(port); err != nil || host == "" || bad != nil || n < 1 || n > 65535 {
		return fmt.Errorf("%q is no mail server: it reads HOST:PORT", m.Server)
	}
	if err := mail.NewMsg().From(m.From); err != nil || strings.ContainsAny(m.From, "<>\r\n") {
		return fmt.Errorf("%q is no address that mail can come from", m.From)
	}
	return nil
}

// isLoopback reports whether a host is this machine, by its name or address.
func isLoopback(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}

// client connects to the server: encrypted, unless that is this machine, which need not be able to.
func (m *Mail) client() (*mail.Client, error) {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	policy := mail.TLSMandatory
	if isLoopback(host) {
		policy = mail.TLSOpportunistic
	}
	options := []mail.Option{mail.WithPort(n), mail.WithTLSPolicy(policy), mail.WithTimeout(tryFor),
		mail.WithTLSConfig(&tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})}
	if name := os.Getenv(MailUser); name != "" {
		auth := mail.SMTPAuthAutoDiscover // which never sends a password in the clear
		options = append(options, mail.WithSMTPAuth(auth), mail.WithUsername(name), mail.WithPassword(os.Getenv(MailPassword)))
	}
	return mail.NewClient(host, options...)
}

// send sends a message as plain text and HTML.
func (m *Mail) send(ctx context.Context, msg *Message) error {
	if m.Server == "" {
		return errNoServer
	}
	letter := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := letter.From(m.From); err != nil {
		return err
	}
	if err := letter.To(strings.TrimPrefix(msg.To, "mailto:")); err != nil {
		return err
	}
	_, domain, _ := strings.Cut(m.From, "@")
	letter.SetMessageIDWithValue(msg.ID + "@" + domain)
	letter.SetDateWithValue(msg.Created)
	letter.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's absence answers it
	letter.Subject(msg.Subject)
	letter.SetBodyString(mail.TypeTextPlain, msg.Text)
	if msg.HTML != "" {
		letter.AddAlternativeString(mail.TypeTextHTML, msg.HTML)
	}
	client, err := m.client()
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, letter)
}

var errNoServer = errors.New("the service was given no mail server: --smtp HOST:PORT")

// Carrier delivers by mail and webhook.
type Carrier struct {
	Mail   Mail
	Client *http.Client // that follows no redirects
	Now    func() time.Time
}

// Deliver delivers a message, by what its receiver's address says.
func (c *Carrier) Deliver(ctx context.Context, m *Message) error {
	if strings.HasPrefix(m.To, "mailto:") {
		return c.Mail.send(ctx, m)
	}
	return post(ctx, c.Client, m, c.Now())
}

// Ready reports what keeps messages from a receiver, as far as that is known before one is sent.
func (c *Carrier) Ready(to, secretIn string) error {
	switch {
	case strings.HasPrefix(to, "mailto:") && c.Mail.Server == "":
		return errNoServer
	case secretIn != "":
		_, err := signer(secretIn)
		return err
	}
	return nil
}
