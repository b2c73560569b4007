package app

import (
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"
)

// certificate is ours, read again when its files have changed: whoever renews it
// need not start the service anew.
type certificate struct {
	cert, key string

	mu      sync.Mutex
	current *tls.Certificate
	written time.Time // when the newer of the files was
	looked  time.Time
}

// loadCertificate reads the files; nil when none are named.
func loadCertificate(cert, key string) (*certificate, error) {
	if cert == "" && key == "" {
		return nil, nil
	}
	if cert == "" || key == "" {
		return nil, errors.New("--tls-cert and --tls-key: give both or none")
	}
	c := &certificate{cert: cert, key: key}
	if err := c.load(); err != nil {
		return nil, fmt.Errorf("--tls-cert and --tls-key can't be used: %w", err)
	}
	return c, nil
}

func (c *certificate) load() error {
	written, err := c.changed()
	if err != nil {
		return err
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil {
		return err
	}
	c.current, c.written = &pair, written
	return nil
}

func (c *certificate) changed() (newest time.Time, err error) {
	for _, file := range []string{c.cert, c.key} {
		info, err := os.Stat(file)
		if err != nil {
			return newest, err
		}
		if info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	return newest, nil
}

// lookEvery is how often the files are looked at, when somebody connects.
const lookEvery = 2 * time.Second

func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) > lookEvery {
		c.looked = now
		if written, err := c.changed(); err == nil && !written.Equal(c.written) {
			_ = c.load() // half a renewal is no reason to stop: what there was is good until it ends
		}
	}
	return c.current, nil
}

func (c *certificate) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: c.get}
}
