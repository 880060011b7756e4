package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/server/store"
	"latchkey/server/store/storetest"
)

// Beyond this machine the application is served over TLS or not at all.
func TestServingOtherMachines(t *testing.T) {
	for listen, refused := range map[string]bool{
		"127.0.0.1:0": false, "localhost:8384": false, "[::1]:0": false, "127.3.4.5:0": false,
		":8384": true, "0.0.0.0:8384": true, "[::]:8384": true, "192.0.2.7:8384": true, "bench.example:8384": true,
	} {
		err := (&serving{listen: listen}).check()
		if !refused {
			assert.NoError(t, err, listen)
			continue
		}
		assert.ErrorContains(t, err, "--tls-cert", listen)
		assert.NoError(t, (&serving{listen: listen, cert: "c", key: "k"}).check(), listen)
		assert.NoError(t, (&serving{listen: listen, proxy: true}).check(), listen)
	}
	assert.ErrorContains(t, (&serving{listen: "127.0.0.1:0", cert: "c"}).check(), "both")
	assert.ErrorContains(t, (&serving{listen: "nonsense"}).check(), "expected an address")
	out, code := run(t, "serve", "--listen", "0.0.0.0:0")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "is reached from other machines")
}

func TestHelpPrintsNoPassword(t *testing.T) {
	t.Setenv("LATCHKEY_DATABASE", "latchkey:very-secret@tcp(127.0.0.1:3306)/latchkey")
	for _, args := range [][]string{{"--help"}, {"serve", "--help"}, {"migrate", "--help"}, {"demo", "--help"}, {"serve", "--nonsense"}} {
		out, _ := run(t, args...)
		assert.NotContains(t, out, "very-secret", args)
	}
}

// certificate writes a certificate for this machine that nobody vouches for.
func certificate(t *testing.T) (cert, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(t.TempDir(), "cert.pem"), filepath.Join(t.TempDir(), "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return cert, key
}

func TestServingOverTLS(t *testing.T) {
	cert, key := certificate(t)
	client := &http.Client{Timeout: 10 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	r := startServerBy(t, client, storetest.Address(t), "--tls-cert", cert, "--tls-key", key)
	require.True(t, strings.HasPrefix(r.url, "https://"), r.url)
	assert.True(t, strings.HasPrefix(r.cookie, "__Host-latchkey="), "the cookie goes over TLS only")
	status, _, err := r.do(client, http.MethodGet, "/cases", "", "", nil)
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
	res, err := client.Get(r.url + "/")
	require.NoError(t, err)
	res.Body.Close()
	assert.Contains(t, res.Header.Get("Strict-Transport-Security"), "max-age")
	_, err = (&http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true,
		MaxVersion: tls.VersionTLS11}}}).Get(r.url)
	assert.Error(t, err, "older than TLS 1.2")
}

// A server that starts before its database waits for it, and says so. The key is printed
// as long as no lead has a password.
func TestStartingBeforeTheDatabase(t *testing.T) {
	t.Parallel()
	database := storetest.NewServer(t)
	dsn := database.Start()
	database.Stop()
	go func() {
		time.Sleep(2 * time.Second)
		database.Start()
	}()
	client := &http.Client{Timeout: 10 * time.Second}
	r := startServerBy(t, client, dsn)
	assert.Contains(t, r.log(), "waiting for the database")
	assert.NotContains(t, r.log(), strings.Split(strings.SplitN(dsn, ":", 2)[1], "@")[0], "no log has the password")

	s, err := store.Open(dsn)
	require.NoError(t, err)
	defer s.Close()
	o := &serving{lead: "Lead"}
	link, err := o.firstKey(t.Context(), s)
	require.NoError(t, err)
	assert.Contains(t, link, "#key=")
	status, raw, err := r.do(client, http.MethodPut, "/session/password", "", "application/json", strings.NewReader(`{"new":"nine brown barges"}`))
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status, string(raw))
	link, err = o.firstKey(t.Context(), s)
	require.NoError(t, err)
	assert.Empty(t, link, "a lead has a password")
}
