package e2e

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"twinning/internal/app"
	"twinning/internal/core/budget"
	"twinning/internal/store"
)

// issue makes a certificate for loopback with a number.
func issue(t *testing.T, number int64) (cert, key []byte) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(number), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})
}

// The service speaks TLS by itself, takes a renewed certificate without being
// started anew, and half a renewal changes nothing; what a browser keeps of it is
// kept for this host alone.
func TestTLS(t *testing.T) {
	dir := dataDir(t)
	certFile, keyFile := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	put := func(file string, text []byte) { require.NoError(t, os.WriteFile(file, text, 0o600)) }
	cert, key := issue(t, 1)
	put(certFile, cert)
	put(keyFile, key)
	ctx, cancel := context.WithCancel(context.Background())
	_, err := app.Open(ctx, app.Config{DataDir: filepath.Join(dir, "half"), TLSCert: certFile})
	require.ErrorContains(t, err, "give both or none")
	a, err := app.Open(ctx, app.Config{DataDir: filepath.Join(dir, "node"), Listen: "127.0.0.1:0", Volatile: true, TLSCert: certFile, TLSKey: keyFile})
	require.NoError(t, err)
	t.Cleanup(a.Close)
	address, ended := make(chan string, 1), make(chan error, 1)
	go func() { ended <- a.Serve(ctx, func(url string) { address <- url }) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-ended) })
	url := <-address
	require.True(t, strings.HasPrefix(url, "https://"), url)

	ask := func(method, path, body string) (*http.Response, error) { // over a connection of its own
		client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
		req, err := http.NewRequest(method, url+path, strings.NewReader(body))
		require.NoError(t, err)
		if body != "" {
			req.Header.Set("Content-Type", jsonType)
		}
		res, err := client.Do(req)
		if err == nil {
			t.Cleanup(func() { _ = res.Body.Close() })
		}
		return res, err
	}
	served := func() int64 {
		res, err := ask("GET", "/readyz", "")
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, res.StatusCode)
		require.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
		return res.TLS.PeerCertificates[0].SerialNumber.Int64()
	}
	require.EqualValues(t, 1, served())
	res, err := ask("POST", "/v1/sign-in", fmt.Sprintf(`{"name": "admin", "password": %q}`, a.Password))
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NotEmpty(t, res.Cookies())
	for _, c := range res.Cookies() {
		require.True(t, strings.HasPrefix(c.Name, "__Host-") && c.Secure && c.HttpOnly && c.Path == "/" && c.Domain == "", c.Name)
	}

	cert, key = issue(t, 2)
	put(certFile, cert)
	time.Sleep(2500 * time.Millisecond) // the files are looked at every two seconds
	require.EqualValues(t, 1, served(), "half a renewal")
	put(keyFile, key)
	require.Eventually(t, func() bool { return served() == 2 }, 10*time.Second, 200*time.Millisecond)
	put(certFile, []byte("no certificate"))
	time.Sleep(2500 * time.Millisecond)
	require.EqualValues(t, 2, served())
	res, err = http.Get("http" + strings.TrimPrefix(url, "https") + "/readyz")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusBadRequest, res.StatusCode, "nothing is answered without it")
}

// A connection that sends or takes nothing is ended, and what it held is free
// again; one that goes on, however slowly, is not.
func TestConnections(t *testing.T) {
	h := newHouse(t)
	all := h.token("look", "work", "administer")
	require.Equal(t, http.StatusOK, h.call("PUT", "/v1/systems/long", all, map[string]any{"kind": "file", "settings": map[string]string{"id": "id"}}, nil))
	var list bytes.Buffer
	list.WriteString("id,title\n")
	for i := range 60_000 {
		_, _ = fmt.Fprintf(&list, "%d,%0200d\n", i, i) // into memory
	}
	status, _, text := h.send("POST", "/v1/systems/long/rosters", all, fileType, list.Bytes())
	require.Equal(t, http.StatusAccepted, status, text)
	task := store.Task{}
	require.NoError(t, json.Unmarshal([]byte(text), &task))
	h.wait(task.ID, nil)

	require.NoError(t, budget.Set("patience=1"))
	t.Cleanup(func() { require.NoError(t, budget.Set("patience=30")) })
	host := strings.TrimPrefix(h.url, "http://")
	dial := func() net.Conn {
		c, err := net.Dial("tcp", host)
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		require.NoError(t, c.(*net.TCPConn).SetReadBuffer(256<<10))
		return c
	}
	start := func(path string) net.Conn {
		c := dial()
		_, err := fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: %s\r\nContent-Length: 60000\r\n\r\n%s", path, all, map[bool]string{true: fileType, false: jsonType}[strings.Contains(path, "files")], strings.Repeat(" ", 5))
		require.NoError(t, err)
		return c
	}
	for _, path := range []string{"/v1/systems/long/files", "/v1/charter-checks", "/v1/lanes/hq-dome-booking/rulings"} {
		c := start(path)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		_, err := io.ReadAll(c)
		require.False(t, os.IsTimeout(err), "%s: whoever sends nothing more is still connected", path)
	}
	c := start("/v1/systems/long/files") // more than two patiences, but it goes on
	for range 7 {
		time.Sleep(300 * time.Millisecond)
		_, err := io.WriteString(c, strings.Repeat("y", 8000))
		require.NoError(t, err)
	}
	_, err := io.WriteString(c, strings.Repeat("y", 59_995-7*8000))
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
	answer := make([]byte, 32)
	_, err = io.ReadFull(c, answer)
	require.NoError(t, err)
	require.Contains(t, string(answer), "201")

	// what is left of a refused body is never taken for a request
	c = dial()
	inner := strings.Repeat("GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n", 2000)
	_, err = fmt.Fprintf(c, "POST /v1/charter-checks HTTP/1.1\r\nHost: x\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s", len(inner), inner)
	require.NoError(t, err)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(3*time.Second)))
	said, _ := io.ReadAll(c) // it may be kept for another request
	require.Equal(t, 1, strings.Count(string(said), "HTTP/1.1 "), string(said))

	address := fmt.Sprintf("/v1/rosters/%s/export?format=csv", h.newest("long"))
	var unread []net.Conn
	for range 8 {
		c := dial()
		_, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\nConnection: close\r\nAuthorization: Bearer %s\r\n\r\n", address, all)
		require.NoError(t, err)
		unread = append(unread, c)
	}
	var wg sync.WaitGroup
	for range 2 { // the places that the others held are free again
		wg.Go(func() {
			req, err := http.NewRequest("GET", h.url+address, nil)
			if err == nil {
				req.Header.Set("Authorization", "Bearer "+all)
				for range 30 {
					var res *http.Response
					if res, err = http.DefaultClient.Do(req); err != nil {
						break
					}
					var n int64
					n, err = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close() // read to its end
					if res.StatusCode == http.StatusOK {
						if n < 12_000_000 {
							t.Errorf("an export of %d bytes", n)
						}
						return
					}
					time.Sleep(time.Second)
				}
			}
			t.Errorf("no export came through: %v", err)
		})
	}
	wg.Wait()
	cut := 0
	for _, c := range unread {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		b, err := io.ReadAll(c)
		require.False(t, os.IsTimeout(err), "an export that nobody reads is still held")
		if len(b) < 12_000_000 {
			cut++
		}
	}
	require.GreaterOrEqual(t, cut, 4, "as many as there are places")
}
