package cluster

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"

	"github.com/jackc/pgx/v5/pgconn"
)

// OnlySCRAM lets a client go on only with a server that asks for SCRAM: there the
// password is never sent, and the server has to prove that it knows it (RFC 5802).
// Whoever takes the port of a server that died could ask for it in the clear, or
// as MD5, or let anybody in and give wrong answers.
func OnlySCRAM(_ context.Context, _ *pgconn.Config, conn net.Conn) (net.Conn, error) {
	return &judged{Conn: conn}, nil
}

type judged struct {
	net.Conn
	head []byte // of the first message, once it was judged
	done bool
}

// ErrNotOurs is a server that is not the one we made.
var ErrNotOurs = errors.New("what answers at the database's port is not our server")

// first message of a server: its type, length, and for an authentication request
// its kind (PostgreSQL's protocol, section Message Formats).
const (
	headLength  = 9
	saslRequest = 10
)

func (j *judged) Read(b []byte) (int, error) {
	if !j.done {
		head := make([]byte, headLength)
		if _, err := io.ReadFull(j.Conn, head); err != nil {
			return 0, err
		}
		kind := binary.BigEndian.Uint32(head[5:])
		if head[0] != 'E' && (head[0] != 'R' || kind != saslRequest) {
			return 0, fmt.Errorf("%w: it does not ask for SCRAM", ErrNotOurs)
		}
		j.head, j.done = head, true
	}
	if len(j.head) > 0 {
		n := copy(b, j.head)
		j.head = j.head[n:]
		return n, nil
	}
	return j.Conn.Read(b)
}
