package main

// A berth scanner: a machine that signs on by a certificate, without anybody there.

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/url"
	"strings"
	"time"

	"briskwarden.example/briskwarden/examples/desk"
)

const scannerUser = "svc-scanner-norvik"

// scanner has a certificate, and a client of the desk.
type scanner struct {
	h           *harbour
	client      *desk.Client
	certificate tls.Certificate
}

func newScanner(h *harbour) (*scanner, error) {
	certificate, err := selfSigned(scannerUser)
	if err != nil {
		return nil, err
	}
	return &scanner{h, &desk.Client{ID: scannerUser, Name: "Berth scanner", App: "berth-planner", Audience: "berths", Machine: true, Certificate: sha256.Sum256(certificate.Certificate[0])}, certificate}, nil
}

// selfSigned makes a certificate that is known by its digest alone.
func selfSigned(name string) (c tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return c, err
	}
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().AddDate(-1, 0, 0), NotAfter: time.Now().AddDate(2, 0, 0),
		DNSNames: []string{deskHost}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, form, form, &key.PublicKey, key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// openScanner opens the desk to machines, which prove themselves by their certificates.
func (h *harbour) openScanner() error {
	own, err := selfSigned(deskHost)
	if err != nil {
		return err
	}
	h.serve(tls.NewListener(h.listens["machines"], &tls.Config{Certificates: []tls.Certificate{own}, ClientAuth: tls.RequireAnyClientCert, MinVersion: tls.VersionTLS13}), h.desk)
	pool := x509.NewCertPool()
	leaf, err := x509.ParseCertificate(own.Certificate[0])
	if err != nil {
		return err
	}
	pool.AddCert(leaf)
	h.deskTrust = pool
	return nil
}

// scan signs on, and reads a berth through the gateway. The status is that of the last answer.
func (s *scanner) scan(from string) (status int, body string, err error) {
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{Certificates: []tls.Certificate{s.certificate}, RootCAs: s.h.deskTrust,
		ServerName: deskHost, MinVersion: tls.VersionTLS13}}}
	defer client.CloseIdleConnections()
	ask, err := http.NewRequest(http.MethodPost, "https://"+s.h.listens["machines"].Addr().String()+"/token",
		strings.NewReader(url.Values{"grant_type": {"client_credentials"}, "client_id": {scannerUser}}.Encode()))
	if err != nil {
		return 0, "", err
	}
	ask.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	ask.AddCookie(&http.Cookie{Name: placeCookie, Value: from})
	status, body, err = fetch(client, ask)
	if err != nil || status != http.StatusOK {
		return status, body, err
	}
	var token struct {
		Access string `json:"access_token"`
	}
	if err := json.Unmarshal([]byte(body), &token); err != nil {
		return 0, "", err
	}
	read, err := http.NewRequest(http.MethodGet, "http://"+s.h.sitesAddress+"/berths/7", nil)
	if err != nil {
		return 0, "", err
	}
	read.Host = strings.TrimPrefix(s.h.url(berthsHost, "sites"), "http://")
	read.Header.Set("Authorization", "Bearer "+token.Access)
	read.AddCookie(&http.Cookie{Name: placeCookie, Value: from})
	return fetch(&http.Client{Timeout: 10 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, read)
}

func fetch(client *http.Client, r *http.Request) (int, string, error) {
	answer, err := client.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return 0, "", fmt.Errorf("the answer cannot be read: %w", err)
	}
	return answer.StatusCode, string(body), nil
}
