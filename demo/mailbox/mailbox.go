// Package mailbox is a stand-in for a mail server: it takes every mail, for whomever it is, and keeps it to be looked at.
// It is for trying things out, and for tests.
package mailbox

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Letter is a mail that arrived.
type Letter struct {
	From, To  string // of the envelope
	MessageID string
	Subject   string
	Text      string
	HTML      string
	Encrypted bool   // the connection was
	Raw       []byte // as it arrived
}

// Options say how mail is taken. The zero Options take all.
type Options struct {
	TLS            *tls.Config           // for STARTTLS; nil: none is offered
	Name, Password string                // that who sends must give; empty: nobody need
	Refuse         func(l *Letter) error // says why a letter is not taken; nil takes all
	Arrived        func(l *Letter)       // is told of each that is taken
}

// Server takes mail.
type Server struct {
	options Options
	smtp    *smtp.Server
	address net.Addr

	mu      sync.Mutex
	letters []*Letter
}

// mostBytes is how long a letter can be.
const mostBytes = 4 << 20

// Listen takes mail at an address of this machine, such as "127.0.0.1:0".
func Listen(address string, o Options) (*Server, error) {
	s := &Server{options: o}
	s.smtp = smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &session{server: s, conn: c}, nil }))
	s.smtp.Domain, s.smtp.TLSConfig = "localhost", o.TLS
	s.smtp.MaxMessageBytes, s.smtp.ReadTimeout, s.smtp.WriteTimeout = mostBytes, 30*time.Second, 30*time.Second
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s.address = l.Addr()
	go func() { _ = s.smtp.Serve(l) }() // ends when it is closed
	return s, nil
}

// Address is where mail is taken.
func (s *Server) Address() string { return s.address.String() }

// Close stops taking mail.
func (s *Server) Close() error { return s.smtp.Close() }

// Letters are those that arrived, in their order.
func (s *Server) Letters() []*Letter {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]*Letter(nil), s.letters...)
}

// session is one connection.
type session struct {
	server   *Server
	conn     *smtp.Conn
	known    bool
	from, to string
}

func (s *session) Reset()        { s.from, s.to = "", "" }
func (s *session) Logout() error { return nil }

func (s *session) AuthMechanisms() []string {
	if s.server.options.Name == "" {
		return nil
	}
	return []string{sasl.Plain}
}

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, name, password string) error {
		if name != s.server.options.Name || password != s.server.options.Password {
			return errors.New("nobody of that name and password")
		}
		s.known = true
		return nil
	}), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.server.options.Name != "" && !s.known {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = to
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	_, encrypted := s.conn.TLSConnectionState()
	l := &Letter{From: s.from, To: s.to, Encrypted: encrypted, Raw: raw}
	if err := l.read(); err != nil {
		return fmt.Errorf("it cannot be read: %w", err)
	}
	o := &s.server.options
	if o.Refuse != nil {
		if err := o.Refuse(l); err != nil {
			return err
		}
	}
	s.server.mu.Lock()
	s.server.letters = append(s.server.letters, l)
	s.server.mu.Unlock()
	if o.Arrived != nil {
		o.Arrived(l)
	}
	return nil
}

// read takes a letter apart.
func (l *Letter) read() error {
	m, err := mail.ReadMessage(strings.NewReader(string(l.Raw)))
	if err != nil {
		return err
	}
	l.MessageID = m.Header.Get("Message-Id")
	if l.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return err
	}
	kind, parameters, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil {
		return err
	}
	if !strings.HasPrefix(kind, "multipart/") {
		return l.part(kind, m.Header.Get("Content-Transfer-Encoding"), m.Body)
	}
	parts := multipart.NewReader(m.Body, parameters["boundary"])
	for {
		p, err := parts.NextRawPart()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		kind, _, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
		if err == nil {
			err = l.part(kind, p.Header.Get("Content-Transfer-Encoding"), p)
		}
		if err != nil {
			return err
		}
	}
}

func (l *Letter) part(kind, encoding string, body io.Reader) error {
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	switch kind {
	case "text/plain":
		l.Text = strings.ReplaceAll(string(text), "\r\n", "\n")
	case "text/html":
		l.HTML = string(text)
	}
	return err
}
