package service

// Where the service listens, and how it stops.

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"time"
)

// Listening says where a service is reached.
type Listening struct {
	Address    string // such as 127.0.0.1:7575; the port 0 is any that is free
	Operations string // of /livez, /readyz and /metrics; empty is nowhere

	// Certificate and Key are files in PEM, of the service. Without them it listens on loopback alone, unless a
	// proxy in front of it has them. ClientCA is a file of the authorities of client certificates; without it any
	// that a caller of the rulebook has counts.
	Certificate, Key, ClientCA string
}

// How long clients may take, and how long what is being answered has at the end.
const (
	headerTime = 10 * time.Second
	idleTime   = 2 * time.Minute
	stopTime   = 10 * time.Second
	mostHeader = 32 << 10
)

// Listen answers until the context is done; then it takes no new connections, and finishes within ten seconds what is
// being answered. Ready is told the addresses once both are listened at.
func (s *Service) Listen(ctx context.Context, l Listening, ready func(address, operations net.Addr)) error {
	secure, err := s.secure(l)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", l.Address)
	if err != nil {
		return err
	}
	defer listener.Close()
	if s.URL == "" {
		s.URL = map[bool]string{true: "https", false: "http"}[secure != nil] + "://" + listener.Addr().String()
	}
	servers := []*http.Server{s.server(s, secure)}
	failed := make(chan error, 2)
	var operations net.Addr
	if l.Operations != "" {
		other, err := net.Listen("tcp", l.Operations)
		if err != nil {
			return err
		}
		defer other.Close()
		operations = other.Addr()
		servers = append(servers, s.server(s.Operations(), nil))
		go func() { failed <- servers[1].Serve(other) }()
	}
	go func() {
		if secure != nil {
			failed <- servers[0].ServeTLS(listener, "", "")
		} else {
			failed <- servers[0].Serve(listener)
		}
	}()
	ready(listener.Addr(), operations)
	select {
	case err = <-failed:
	case <-ctx.Done():
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopTime)
	defer cancel()
	for _, server := range servers {
		err = errors.Join(err, server.Shutdown(last))
	}
	return err
}

// secure is how connections are encrypted; nil is that they are not.
func (s *Service) secure(l Listening) (*tls.Config, error) {
	if s.BehindProxy {
		for _, c := range s.engine().Rulebook().Callers {
			if len(c.From) > 0 {
				return nil, fmt.Errorf("behind a proxy the service cannot tell from where the caller %s asks (%s): take its \"from\" out, or the proxy away", c.Name, c.Decl.Name.Pos)
			}
		}
	}
	if l.Certificate == "" && l.Key == "" {
		from, err := netip.ParseAddrPort(l.Address)
		loopback := err == nil && from.Addr().Unmap().IsLoopback()
		switch {
		case l.ClientCA != "":
			return nil, errors.New("client certificates need a certificate of the service: name it with its key")
		case s.Open && !loopback:
			return nil, fmt.Errorf("an open service listens on loopback alone, such as 127.0.0.1:7575, not at %s", l.Address)
		case !loopback && !s.BehindProxy:
			return nil, fmt.Errorf("without a certificate the service listens on loopback alone, such as 127.0.0.1:7575, not at %s, unless it is behind a proxy that has one", l.Address)
		}
		return nil, nil
	}
	if s.Open {
		return nil, errors.New("an open service is for trying it out on this machine, and has no certificate")
	}
	own, err := tls.LoadX509KeyPair(l.Certificate, l.Key)
	if err != nil {
		return nil, fmt.Errorf("the certificate of the service: %w", err)
	}
	s.certificateEnds.Store(&own.Leaf.NotAfter)
	c := &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{own}, ClientAuth: tls.RequestClientCert}
	if l.ClientCA != "" {
		pem, err := os.ReadFile(l.ClientCA)
		if err != nil {
			return nil, err
		}
		c.ClientCAs, c.ClientAuth = x509.NewCertPool(), tls.VerifyClientCertIfGiven
		if !c.ClientCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate in PEM", l.ClientCA)
		}
	}
	return c, nil
}

func (s *Service) server(h http.Handler, secure *tls.Config) *http.Server {
	return &http.Server{Handler: h, TLSConfig: secure, ReadHeaderTimeout: headerTime, ReadTimeout: mostTime, WriteTimeout: 2 * mostTime,
		IdleTimeout: idleTime, MaxHeaderBytes: mostHeader, ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelWarn)}
}
