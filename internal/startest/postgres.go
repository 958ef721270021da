package startest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// server is a private PostgreSQL server of this test process, started when it is first needed.
var server struct {
	once    sync.Once
	dir     string
	process *os.Process
	missing string // why there is none
	err     error
	mu      sync.Mutex
	made    int // schemas
}

// Main runs a package's tests and then stops the server, if any has been started. Call it from TestMain.
func Main(m *testing.M) int {
	status := m.Run()
	if server.process != nil {
		server.process.Signal(syscall.SIGQUIT)
		server.process.Wait()
	}
	if server.dir != "" {
		os.RemoveAll(server.dir)
	}
	return status
}

// Postgres gives the connection string of a database on a private server, and the name of a schema that
// isn't there yet. Where PostgreSQL isn't installed, the test is skipped, and says so.
func Postgres(t testing.TB) (connection, schema string) {
	t.Helper()
	server.once.Do(start)
	if server.missing != "" {
		t.Skip("SKIPPED, PostgreSQL is not tested:", server.missing)
	}
	if server.err != nil {
		t.Fatal("starting PostgreSQL: ", server.err)
	}
	server.mu.Lock()
	defer server.mu.Unlock()
	server.made++
	return address(), fmt.Sprint("star", server.made)
}

func address() string {
	return fmt.Sprintf("host=%s port=5433 user=postgres dbname=postgres", server.dir)
}

// bin finds a program of the server's.
func bin(name string) string {
	if found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name); len(found) > 0 {
		return found[len(found)-1]
	}
	path, _ := exec.LookPath(name)
	return path
}

// start makes a cluster in a short path, since that of a socket may have 107 bytes, and starts it; as another
// user where this one is root, which PostgreSQL refuses.
func start() {
	if bin("initdb") == "" || bin("postgres") == "" {
		server.missing = "initdb or postgres is not installed"
		return
	}
	server.err = func() error {
		var err error
		if server.dir, err = os.MkdirTemp("/tmp", "im"); err != nil {
			return err
		}
		attributes := &syscall.SysProcAttr{Pdeathsig: syscall.SIGQUIT}
		if os.Getuid() == 0 {
			for _, name := range []string{"postgres", "nobody"} {
				if u, err := user.Lookup(name); err == nil {
					uid, _ := strconv.Atoi(u.Uid)
					gid, _ := strconv.Atoi(u.Gid)
					attributes.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
					if err := os.Chown(server.dir, uid, gid); err != nil {
						return err
					}
					break
				}
			}
		}
		data := filepath.Join(server.dir, "data")
		command := func(name string, args ...string) *exec.Cmd {
			cmd := exec.Command(bin(name), args...)
			cmd.Dir, cmd.SysProcAttr = server.dir, attributes
			cmd.Env = append(os.Environ(), "LC_ALL=C", "HOME="+server.dir)
			return cmd
		}
		if out, err := command("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C", "--no-sync").CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		started := make(chan error)
		go func() { // the server dies with the thread that starts it: that is to live as long as the process
			runtime.LockOSThread()
			cmd := command("postgres", "-D", data, "-k", server.dir, "-p", "5433", "-c", "listen_addresses=", "-c", "fsync=off", "-c", "shared_buffers=256MB", "-c", "max_connections=60")
			err := cmd.Start()
			server.process = cmd.Process
			started <- err
			select {}
		}()
		if err := <-started; err != nil {
			return err
		}
		for range 200 {
			var conn *pgx.Conn
			if conn, err = pgx.Connect(context.Background(), address()); err == nil {
				return conn.Close(context.Background())
			}
			time.Sleep(50 * time.Millisecond)
		}
		return err
	}()
}
