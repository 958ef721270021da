package startest

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
)

// server is a private database server of this test process, started when it is first needed.
type server struct {
	programs []string // that have to be installed
	stop     syscall.Signal
	start    func(s *server) error
	tries    int // how often it is asked whether it answers, each 50 ms; 0 is 400

	once    sync.Once
	dir     string
	as      *syscall.SysProcAttr
	process *os.Process
	missing string // why there is none
	err     error
	mu      sync.Mutex
	made    int // schemas or databases
}

var (
	postgresServer = &server{programs: []string{"initdb", "postgres"}, stop: syscall.SIGQUIT, start: startPostgres}
	mariadbServer  = &server{
		programs: []string{"mariadb-install-db", "mariadbd"},
		stop:     syscall.SIGKILL,
		start:    startMariaDB,
	}
)

// Main runs a package's tests and then stops the servers that have been started. Call it from TestMain.
func Main(m *testing.M) int {
	status := m.Run()
	servers := []*server{postgresServer, mariadbServer, trinoServer.server, trinoServer.catalogs}
	for _, s := range slices.DeleteFunc(servers, func(s *server) bool { return s == nil }) {
		s.end()
	}
	return status
}

// Postgres returns the connection string of a database on a private server, and the name of a schema that
// is not there yet. Where PostgreSQL is not installed, the test is skipped, and says so.
func Postgres(t testing.TB) (connection, schema string) {
	t.Helper()
	n := postgresServer.need(t)
	return postgresServer.address(), fmt.Sprint("star", n)
}

// PostgresAlone returns the same of a server of this test alone, and a function that has the server die and start
// again.
func PostgresAlone(t testing.TB) (connection, schema string, restart func()) {
	t.Helper()
	s := &server{programs: postgresServer.programs, stop: postgresServer.stop, start: startPostgres}
	s.need(t)
	end := func() {
		s.process.Signal(s.stop)
		s.process.Wait()
	}
	t.Cleanup(func() {
		end()
		os.RemoveAll(s.dir)
	})
	return s.address(), "star", func() {
		end()
		if err := runPostgres(s); err != nil {
			t.Fatal("starting a server again: ", err)
		}
	}
}

// MariaDB returns the connection of a new database on a private server, as a model has it, and that database.
// Where MariaDB is not installed, the test is skipped, and says so.
func MariaDB(t testing.TB) (connection string, db *sql.DB) {
	t.Helper()
	name := fmt.Sprint("test", mariadbServer.need(t))
	socket := mariadbServer.dir + "/s"
	db, err := sql.Open("mysql", "root@unix("+socket+")/?multiStatements=true")
	if err == nil {
		_, err = db.Exec("create database " + name)
		db.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if db, err = sql.Open("mysql", "root@unix("+socket+")/"+name+"?multiStatements=true&loc=UTC"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return fmt.Sprintf("socket=%s user=root dbname=%s", socket, name), db
}

func (s *server) address() string {
	return fmt.Sprintf("host=%s port=5433 user=postgres dbname=postgres", s.dir)
}

// need starts the server, if that is not done yet, and returns a number that nobody has yet.
func (s *server) need(t testing.TB) int {
	t.Helper()
	s.once.Do(s.begin)
	if s.missing != "" {
		t.Skip("SKIPPED, a server is not installed:", s.missing)
	}
	if s.err != nil {
		t.Fatal("starting a server: ", s.err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.made++
	return s.made
}

// bin finds a program of a server's.
func bin(name string) string {
	if found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name); len(found) > 0 {
		return found[len(found)-1]
	}
	if _, err := os.Stat("/usr/sbin/" + name); err == nil {
		return "/usr/sbin/" + name
	}
	path, _ := exec.LookPath(name)
	return path
}

// begin makes a folder with a short path, since that of a socket may have 107 bytes, and starts the server there; as
// another user where this one is root, which servers refuse.
func (s *server) begin() {
	for _, name := range s.programs {
		if bin(name) == "" {
			s.missing = name
			return
		}
	}
	if s.dir, s.err = os.MkdirTemp("/tmp", "im"); s.err != nil {
		return
	}
	s.as = &syscall.SysProcAttr{Pdeathsig: s.stop}
	if os.Getuid() == 0 {
		for _, name := range []string{"postgres", "mysql", "nobody"} {
			if u, err := user.Lookup(name); err == nil {
				uid, _ := strconv.Atoi(u.Uid)
				gid, _ := strconv.Atoi(u.Gid)
				s.as.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
				s.err = os.Chown(s.dir, uid, gid)
				break
			}
		}
	}
	if s.err == nil {
		s.err = s.start(s)
	}
}

func (s *server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(bin(name), args...)
	cmd.Dir, cmd.SysProcAttr = s.dir, s.as
	cmd.Env = append(os.Environ(), "LC_ALL=C", "HOME="+s.dir)
	return cmd
}

// serve starts a program that stays, and waits until it answers.
func (s *server) serve(cmd *exec.Cmd, answers func() error) error {
	started := make(chan error)
	go func() { // the server dies with the thread that starts it: that is to live as long as the process
		runtime.LockOSThread()
		err := cmd.Start()
		s.process = cmd.Process
		started <- err
		select {}
	}()
	err := <-started
	for range cmp.Or(s.tries, 400) {
		if err = answers(); err == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return err
}

func startPostgres(s *server) error {
	data := filepath.Join(s.dir, "data")
	if out, err := s.command("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C", "--no-sync").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return runPostgres(s)
}

func runPostgres(s *server) error {
	return s.serve(
		s.command(
			"postgres",
			"-D",
			filepath.Join(s.dir, "data"),
			"-k",
			s.dir,
			"-p",
			"5433",
			"-c",
			"listen_addresses=",
			"-c",
			"fsync=off",
			"-c",
			"shared_buffers=256MB",
			"-c",
			"max_connections=60",
		),
		func() error {
			conn, err := pgx.Connect(context.Background(), s.address())
			if err != nil {
				return err
			}
			return conn.Close(context.Background())
		},
	)
}

func startMariaDB(s *server) error {
	data := filepath.Join(s.dir, "data")
	if out, err := s.command("mariadb-install-db", "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return s.serve(
		s.command(
			"mariadbd",
			"--no-defaults",
			"--datadir="+data,
			"--socket="+s.dir+"/s",
			"--pid-file="+s.dir+"/pid",
			"--skip-networking",
			"--innodb-flush-log-at-trx-commit=0",
		),
		func() error {
			db, err := sql.Open("mysql", "root@unix("+s.dir+"/s)/")
			if err != nil {
				return err
			}
			defer db.Close()
			return db.Ping()
		},
	)
}
