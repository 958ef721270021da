package startest

import (
	"context"
	"fmt"
	"os"
	"testing"

	"ironmonger/internal/trinodb"
	"ironmonger/internal/warehouse"
)

// Cluster is a private cluster of Trino that goes on when a worker dies: a coordinator, and workers that are processes of
// their own.
type Cluster struct {
	lake
	workers []*server
}

// tolerant are the properties of a coordinator that repeats tasks, and workerProperties those of its workers.
const (
	tolerant = `coordinator=true
node-scheduler.include-coordinator=false
http-server.http.port=%[1]d
discovery.uri=http://127.0.0.1:%[1]d
` + ofAll
	workerProperties = `coordinator=false
http-server.http.port=%d
discovery.uri=http://127.0.0.1:%d
` + ofAll
	ofAll = `query.max-memory=8GB
query.max-memory-per-node=800MB
memory.heap-headroom-per-node=320MB
retry-policy=TASK
fault-tolerant-execution-task-memory=300MB
task-retry-attempts-per-task=6
query.remote-task.max-error-duration=10s
`
)

// NewCluster starts a cluster of some workers, and returns a place for a star in it.
func NewCluster(t testing.TB, workers int) (*Cluster, warehouse.Location) {
	t.Helper()
	c := &Cluster{}
	exchange := t.TempDir()
	manager := "exchange-manager.name=filesystem\nexchange.base-directories=" + exchange + "\n"
	c.files = map[string]string{"etc/exchange-manager.properties": manager}
	c.properties = tolerant
	t.Cleanup(c.stop)
	c.join = func() error {
		for range workers {
			if err := c.Join(); err != nil {
				return err
			}
		}
		return nil
	}
	return c, c.place(t)
}

// Join starts one more worker.
func (c *Cluster) Join() error {
	s, err := newNode()
	if err != nil {
		return err
	}
	c.workers = append(c.workers, s)
	port, err := freePort()
	if err != nil {
		return err
	}
	return c.run(s, fmt.Sprintf(workerProperties, port, c.port), func() error {
		if err := c.active(len(c.workers)); err != nil {
			return err
		}
		return c.answers()
	})
}

// active reports whether so many workers take tasks.
func (c *Cluster) active(workers int) error {
	db, err := trinodb.Open(c.url(), nil)
	if err != nil {
		return err
	}
	defer db.Close()
	const nodes = "SELECT count(*) FROM system.runtime.nodes WHERE NOT coordinator AND state = 'active'"
	var n int
	if err := db.QueryRowContext(context.Background(), nodes).Scan(&n); err != nil || n == workers {
		return err
	}
	return fmt.Errorf("%d workers are active, not %d", n, workers)
}

// Kill has the worker that has joined last die.
func (c *Cluster) Kill() {
	s := c.workers[len(c.workers)-1]
	c.workers = c.workers[:len(c.workers)-1]
	s.end()
}

func (c *Cluster) stop() {
	for _, s := range append(c.workers, c.server, c.catalogs) {
		if s != nil {
			s.end()
		}
	}
}

// end has a server die, and removes what it has.
func (s *server) end() {
	if s.process != nil {
		s.process.Signal(s.stop)
		s.process.Wait()
	}
	if s.dir != "" {
		os.RemoveAll(s.dir)
	}
}
