package sqlite

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// readers are connections that read the file as it was at one time, while another one writes it.
type readers struct {
	mu   sync.Mutex
	idle []*connection
}

func (r *readers) take(path string) (*connection, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if last := len(r.idle) - 1; last >= 0 {
		c := r.idle[last]
		r.idle = r.idle[:last]
		return c, nil
	}
	return connect(path, "query_only = on")
}

func (r *readers) give(c *connection) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.idle = append(r.idle, c)
}

func (r *readers) close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	var errs []error
	for _, c := range r.idle {
		errs = append(errs, dberror.SQLite(c.conn.Close()))
	}
	r.idle = nil
	return errors.Join(errs...)
}

// snapshot is a transaction that reads, on a connection of its own.
type snapshot struct {
	*connection
	of *readers
}

// Snapshot begins to read the file as it is.
func (db *DB) Snapshot(ctx context.Context) (warehouse.Snapshot, error) {
	c, err := db.readers.take(db.path)
	if err != nil {
		return nil, err
	}
	c.conn.SetInterrupt(ctx.Done())
	s := &snapshot{c, &db.readers}
	for _, sql := range []string{"BEGIN", "SELECT 1 FROM sqlite_master LIMIT 1"} { // it begins with what is read first
		if err := s.exec(sql); err != nil {
			s.Close()
			return nil, fmt.Errorf("%s: %w", db.path, err)
		}
	}
	return s, nil
}

// Close ends the transaction; again, it does nothing.
func (s *snapshot) Close() error {
	if s.connection == nil {
		return nil
	}
	c := s.connection
	s.connection = nil
	c.conn.SetInterrupt(nil)
	c.tidy()
	if c.conn.AutocommitEnabled() { // it has not begun
		s.of.give(c)
		return nil
	}
	err := c.exec("ROLLBACK")
	if err != nil {
		return errors.Join(err, dberror.SQLite(c.conn.Close()))
	}
	s.of.give(c)
	return nil
}
