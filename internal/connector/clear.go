package connector

import (
	"twinning/internal/connector/outbound"
	"twinning/internal/core/record"
)

// Cleared is a record without secrets that a peer says back in it.
func (r Record) Cleared(c *outbound.Clearer) Record {
	r.ID, r.Values, r.Version = c.Text(r.ID), c.Values(r.Values), c.Text(r.Version)
	return r
}

// clearing is a sink to which nothing of our secrets comes.
type clearing struct {
	Sink
	values, words *outbound.Clearer
}

// Clearing takes secrets out of whatever a reading finds.
func Clearing(sink Sink, secrets ...string) Sink {
	return &clearing{sink, outbound.ForValues(secrets...), outbound.NewClearer(secrets...)}
}

func (s *clearing) Record(r Record) error { return s.Sink.Record(r.Cleared(s.values)) }

func (s *clearing) Reject(r record.Rejection) error {
	r.ID, r.Reason, r.Column = s.values.Text(r.ID), s.words.Text(r.Reason), s.values.Text(r.Column)
	for i, name := range r.Names {
		r.Names[i] = s.values.Text(name)
	}
	return s.Sink.Reject(r)
}

func (s *clearing) LeftOut(l Left) error {
	l.ID, l.Reason, l.What = s.values.Text(l.ID), s.words.Text(l.Reason), s.values.Text(l.What)
	return s.Sink.LeftOut(l)
}
