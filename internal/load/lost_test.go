package load_test

import (
	"bytes"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// breaker stands between a client and a PostgreSQL server. At the commit of the given number it breaks the
// connection: before the server has heard of it, or once it has, so that only the answer is lost.
type breaker struct {
	at      int64
	heard   bool
	commits atomic.Int64
}

// listen stands in for a server by a socket in dir.
func (b *breaker) listen(t *testing.T, dir, server string) {
	standIn(t, dir, func(client net.Conn) { b.serve(client, server) })
}

// standIn stands in for a PostgreSQL server by a socket in dir.
func standIn(t *testing.T, dir string, serve func(client net.Conn)) {
	listener, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5433"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			go serve(client)
		}
	}()
}

func (b *breaker) serve(client net.Conn, server string) {
	defer client.Close()
	there, err := net.Dial("unix", server)
	if err != nil {
		return
	}
	defer there.Close()
	answers := make(chan struct{})
	var lost atomic.Bool
	go func() {
		defer close(answers)
		buf := make([]byte, 1<<16)
		for {
			n, err := there.Read(buf)
			if err != nil || lost.Load() {
				client.Close()
				return
			}
			client.Write(buf[:n])
		}
	}()
	buf := make([]byte, 1<<16)
	for {
		n, err := client.Read(buf)
		if err != nil {
			return
		}
		if bytes.HasPrefix(buf[:n], []byte("Q")) && bytes.Contains(buf[:n], []byte("COMMIT\x00")) &&
			b.commits.Add(1) == b.at {
			lost.Store(true)
			if b.heard {
				there.Write(buf[:n])
				<-answers // the server has answered, or gone
			}
			return
		}
		if _, err := io.Copy(there, bytes.NewReader(buf[:n])); err != nil {
			return
		}
	}
}

// TestLostCommit breaks the connection at each commit of a load. Where the server had heard of it, the ledger says
// so, and the load goes on; else the step has failed. In either case another load makes the star whole.
func TestLostCommit(t *testing.T) {
	connection, _ := startest.Postgres(t)
	server := filepath.Join(strings.TrimPrefix(strings.Fields(connection)[0], "host="), ".s.PGSQL.5433")
	want := ""
	for at := range 5 { // none, the run's beginning, the dimension, the fact, the run's end
		for _, heard := range []bool{true, false} {
			b := &breaker{at: int64(at), heard: heard}
			dir := t.TempDir()
			b.listen(t, dir, server)
			_, schema := startest.Postgres(t)
			f := newYard(
				t,
				"sqlite: star.db",
				"postgres: host="+dir+" port=5433 user=postgres dbname=postgres\n  schema: "+schema,
			)
			f.boats("A1,Heron,I,2024-01-01", "A1,Heron,II,2024-06-01")
			f.trips("1,A1,2024-02-01,10.00", "2,A1,2024-07-01,11.00", "3,B1,2024-07-01,12.00")
			run, err := startest.Load(t, f.dir, load.Options{})
			steps := at == 2 || at == 3
			if b.commits.Load() < int64(at) {
				t.Fatalf("commit %d never came", at)
			}
			if (steps && heard || at == 4) && (err != nil || run.State != "done") {
				t.Errorf("commit %d was heard: %v", at, err)
			}
			if steps && !heard {
				failed := false
				for _, s := range run.Steps {
					failed = failed ||
						s.State == "failed" && strings.Contains(s.Message, "lost before the step was committed")
				}
				if err == nil || !failed {
					t.Errorf("commit %d was not heard: %v, %+v", at, err, run.Steps)
				}
			}
			if _, err := startest.Load(t, f.dir, load.Options{}); err != nil {
				t.Error(err)
			}
			if got := startest.Dump(t, f.dir, "load_run"); want == "" {
				want = got
			} else if got != want {
				t.Errorf("commit %d, heard %v:\n%s", at, heard, startest.Difference(want, got))
			}
		}
	}
}

// TestRetries breaks the connection before a commit: a step begins again where the model says so, in the warehouse that
// it takes once more, and the star is the one of a load that nothing happened to; the notes of the step say so.
func TestRetries(t *testing.T) {
	connection, _ := startest.Postgres(t)
	server := filepath.Join(strings.TrimPrefix(strings.Fields(connection)[0], "host="), ".s.PGSQL.5433")
	want := ""
	for _, at := range []int64{0, 2, 3, 4} { // none, the dimension, the numbers of files, the fact
		b := &breaker{at: at}
		dir := t.TempDir()
		b.listen(t, dir, server)
		_, schema := startest.Postgres(t)
		place := "postgres: host=" + dir + " port=5433 user=postgres dbname=postgres\n  schema: " + schema
		f := newYard(t, "sqlite: star.db", place, "limits:\n", "limits:\n  retries: 1\n", "    grain: trip\n", "    grain: trip\n    repeated: replace\n")
		f.boats("A1,Heron,I,2024-01-01", "A1,Heron,II,2024-06-01")
		f.trips("1,A1,2024-02-01,10.00", "2,A1,2024-07-01,11.00", "3,B1,2024-07-01,12.00")
		again := 0
		run, err := startest.Load(t, f.dir, load.Options{Watch: func(p load.Progress) {
			if p.Again != nil {
				again++
			}
		}})
		if err != nil || run.State != "done" {
			t.Fatalf("commit %d: %v %+v", at, err, run.Steps)
		}
		said := 0
		for _, s := range run.Steps {
			for _, note := range s.Figures.Notes {
				if strings.HasPrefix(note, "begun again: the connection to the database was lost") {
					said++
				}
			}
		}
		if lost := min(1, int(at)); again != lost || said != lost {
			t.Errorf("commit %d: %d steps begin again, and %d say so", at, again, said)
		}
		if got := startest.Dump(t, f.dir); want == "" {
			want = got
		} else if got != want {
			t.Errorf("commit %d:\n%s", at, startest.Difference(want, got))
		}
		if !startest.Proved(t, f.dir) {
			t.Errorf("commit %d: the star is broken", at)
		}
	}
}
