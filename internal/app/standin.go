package app

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"twinning/internal/standin/mailgate"
	"twinning/internal/standin/scimapp"
)

// MailGate is the simulated mail gateway.
type MailGate = mailgate.Gate

// ServeStandin runs the simulated SCIM application until the context ends.
func ServeStandin(ctx context.Context, listen, state, token string, ready func(url string)) error {
	a, err := scimapp.New(state, token)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("the stand-in can't listen on %s: %w", listen, err)
	}
	defer a.Flush()
	server := &http.Server{Handler: a, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		_ = server.Close()
	}()
	ready("http://" + l.Addr().String())
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
