// Package postgres keeps a star in a PostgreSQL database.
//
// Rows go in by binary COPY, a chunk at a time, since a connection has one stream and a step writes to
// several tables. Amending, removing, looking up many keys and repointing are single statements that join
// arrays. Keys of a new table are added when it is filled; foreign keys are checked at the end of the
// transaction. Text columns have the collation C, so that equality is that of bytes.
//
// Where the server is and who one is come from the model's connection string, PG* environment variables,
// a service file and a password file, as for any client of PostgreSQL. A password is never shown.
package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgxpool"

	"ironmonger/internal/column"
	"ironmonger/internal/dberror"
	"ironmonger/internal/warehouse"
)

// DB is a schema of a database.
type DB struct {
	pool    *pgxpool.Pool
	schema  string
	readers []string // roles
}

// writers is how many steps write at the same time: enough to hide how long the way to the server is, and few beside
// the 100 connections that a server allows unless told otherwise.
const writers = 8

// Open connects to a database; the schema is made when it is first written to.
func Open(ctx context.Context, connection, schema string, readers ...string) (*DB, error) {
	config, err := pgxpool.ParseConfig(connection)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	config.MaxConns = writers + 4 // the one that holds the schema, and readers
	config.ConnConfig.ConnectTimeout = 10 * time.Second
	config.ConnConfig.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: time.Second}
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, dberror.Postgres(err)
	}
	return &DB{pool, schema, readers}, nil
}

// Capabilities says how many transactions may write at the same time (see Beside).
func (db *DB) Capabilities() warehouse.Capabilities { return driver{}.Capabilities() }

// Close ends all connections.
func (db *DB) Close() error {
	db.pool.Close()
	return nil
}

// quote makes a name into SQL. It is the only way a name gets there.
func quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func quoteAll(names []string, format string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = strings.ReplaceAll(format, "%", quote(n))
	}
	return strings.Join(quoted, ", ")
}

func (db *DB) table(name string) string { return quote(db.schema) + "." + quote(name) }

// declared returns the SQL type of a type.
func declared(t column.Type) string {
	switch t.Kind {
	case column.Integer:
		return "bigint"
	case column.Decimal:
		return fmt.Sprintf("numeric(%d,%d)", t.Precision, t.Scale)
	case column.Double:
		return "double precision"
	case column.Time:
		return "time without time zone"
	case column.Timestamp:
		return "timestamp without time zone"
	}
	return t.String()
}

// querier is a pool or a connection.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
}

// Describe returns the columns of a table or view.
func (db *DB) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	return describe(ctx, db.pool, db.schema, table)
}

// Declares returns the name of a type.
func (db *DB) Declares(_ string, t column.Type) string { return declared(t) }

func describe(ctx context.Context, q querier, schema, table string) (warehouse.Description, error) {
	rows, err := q.Query(
		ctx,
		`SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, false,
		EXISTS (SELECT FROM pg_partitioned_table p WHERE p.partrelid = a.attrelid AND a.attnum = ANY (p.partattrs))
		FROM pg_attribute a WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`,
		pgx.Identifier{schema, table}.Sanitize(),
	)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	columns, err := pgx.CollectRows(rows, pgx.RowToStructByPos[warehouse.Standing])
	if err != nil || len(columns) == 0 {
		return nil, dberror.Postgres(err)
	}
	return columns, nil
}

// Read asks outside a transaction.
func (db *DB) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	return read(ctx, db.pool, db.table(q.Table), q)
}

// Tally counts outside a transaction.
func (db *DB) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	return tally(ctx, db.pool, db.table(table), measures)
}

// snapshot is a transaction that reads, on a connection of its own.
type snapshot struct {
	*DB
	conn *pgxpool.Conn
}

// Snapshot begins to read the schema as it is.
func (db *DB) Snapshot(ctx context.Context) (warehouse.Snapshot, error) {
	conn, err := db.pool.Acquire(ctx)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	if _, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		conn.Release()
		return nil, dberror.Postgres(err)
	}
	return snapshot{db, conn}, nil
}

func (s snapshot) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	return describe(ctx, s.conn, s.schema, table)
}

func (s snapshot) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	return read(ctx, s.conn, s.table(q.Table), q)
}

func (s snapshot) Tally(ctx context.Context, table string, measures []column.Field) (warehouse.Tally, error) {
	return tally(ctx, s.conn, s.table(table), measures)
}

func (s snapshot) Close() error {
	_, err := s.conn.Exec(context.Background(), "ROLLBACK")
	s.conn.Release()
	return dberror.Postgres(err)
}

// tx is a transaction on a connection of its own.
type tx struct {
	*DB
	connection *pgxpool.Conn
	open       bool
	sending    chan error      // of rows that are on their way to the server; nil if none are
	failed     error           // of rows sent earlier
	made       map[string]bool // tables that rows may be frozen in
	divided    map[string]*divided

	there map[string]warehouse.Description // the columns of tables and views, as far as they have been asked for

	gone    map[string]int64 // by table, how many rows were removed
	sought  map[string]bool  // tables whose removed rows are looked for by indexes
	indexes []string         // that were made for that
}

// conn returns the connection once it is free: rows are sent while the caller goes on with the next.
func (t *tx) conn() *pgxpool.Conn {
	if t.sending != nil {
		if err := <-t.sending; t.failed == nil {
			t.failed = err
		}
		t.sending = nil
	}
	return t.connection
}

// lock is the number of an advisory lock on the schema, for one use.
func (db *DB) lock(use string) int64 {
	h := fnv.New64a()
	h.Write([]byte("ironmonger " + use + db.schema))
	return int64(h.Sum64())
}

// Hold takes an advisory lock on a connection of its own: the server lets go of it when that ends.
func (db *DB) Hold(ctx context.Context) (warehouse.Hold, error) {
	conn, err := db.pool.Acquire(ctx)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	held := false
	if err := conn.QueryRow(ctx, "SELECT pg_try_advisory_lock($1)", db.lock("load ")).Scan(&held); err != nil ||
		!held {
		conn.Release()
		if err == nil {
			return nil, warehouse.ErrHeld
		}
		return nil, dberror.Postgres(err)
	}
	return &hold{db: db, conn: conn}, nil
}

// hold is a connection that has the lock of a load.
type hold struct {
	db   *DB
	mu   sync.Mutex
	conn *pgxpool.Conn
}

// Check asks whether the connection is there, and with it the lock.
func (h *hold) Check(ctx context.Context) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return dberror.Postgres(h.conn.Ping(ctx))
}

// Release unlocks before it closes, since a server takes its time to notice that a connection has ended.
func (h *hold) Release() {
	h.mu.Lock()
	defer h.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), ending)
	defer cancel()
	h.conn.Exec(ctx, "SELECT pg_advisory_unlock($1)", h.db.lock("load "))
	h.conn.Hijack().Close(ctx)
}

// Begin starts a transaction and waits until no other writes to the schema, so that what it reads stays true until it
// commits.
func (db *DB) Begin(ctx context.Context) (warehouse.Tx, error) {
	return db.begin(ctx, fmt.Sprintf("pg_advisory_xact_lock(%d)", db.lock("")))
}

// Beside starts a transaction that has the schema together with those of other parts. One that is broken off has its
// part until the server knows that it has ended.
func (db *DB) Beside(ctx context.Context, part string) (warehouse.Tx, error) {
	const both = "pg_advisory_xact_lock_shared(%d), pg_advisory_xact_lock(%d)"
	return db.begin(ctx, fmt.Sprintf(both, db.lock(""), db.lock("part "+part+" ")))
}

func (db *DB) begin(ctx context.Context, locks string) (warehouse.Tx, error) {
	conn, err := db.pool.Acquire(ctx)
	if err != nil {
		return nil, dberror.Postgres(err)
	}
	t := &tx{
		DB: db, connection: conn, open: true, made: map[string]bool{}, divided: map[string]*divided{},
		there: map[string]warehouse.Description{}, gone: map[string]int64{}, sought: map[string]bool{},
	}
	// in one message; what is read sees what was committed before each statement
	begin := "BEGIN ISOLATION LEVEL READ COMMITTED; SET LOCAL client_min_messages = warning; SELECT " + locks
	if _, err := conn.Conn().PgConn().Exec(ctx, begin).ReadAll(); err != nil {
		t.Rollback()
		return nil, dberror.Postgres(err)
	}
	return t, nil
}

// sent waits for the rows that are on their way, and returns what went wrong with them or earlier ones.
func (t *tx) sent() error {
	t.conn()
	return dberror.Postgres(t.failed)
}

func (t *tx) exec(ctx context.Context, sql string, args ...any) error {
	if err := t.sent(); err != nil {
		return err
	}
	_, err := t.conn().Exec(ctx, sql, args...)
	return dberror.Postgres(err)
}

// ending bounds how long the end of a transaction may take.
const ending = 5 * time.Minute

func (t *tx) end(sql string) error {
	if !t.open {
		return nil
	}
	var err error
	conn := t.conn()
	if sql == "COMMIT" && t.failed == nil && !conn.Conn().IsClosed() {
		if err := t.hold(context.Background()); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), ending) // a commit that has begun is not torn
	defer cancel()
	if t.failed != nil && sql == "COMMIT" {
		err = dberror.Postgres(t.failed)
	} else if !conn.Conn().IsClosed() {
		_, err = conn.Exec(ctx, sql)
		if err = dberror.Postgres(err); err != nil && sql == "COMMIT" && conn.Conn().IsClosed() {
			err = warehouse.ErrUnknown
		}
	} else if sql == "COMMIT" {
		err = errors.New("the connection to the database is lost")
	}
	if err != nil && sql == "COMMIT" {
		return err // the caller rolls back
	}
	t.open = false
	t.connection.Release()
	return err
}

func (t *tx) Commit() error   { return t.end("COMMIT") }
func (t *tx) Rollback() error { return t.end("ROLLBACK") }

func (t *tx) Describe(ctx context.Context, table string) (warehouse.Description, error) {
	if known, ok := t.there[table]; ok {
		return known, nil
	}
	if err := t.sent(); err != nil {
		return nil, err
	}
	d, err := describe(ctx, t.conn(), t.schema, table)
	if err == nil {
		t.there[table] = d
	}
	return d, err
}

func (t *tx) Read(ctx context.Context, q warehouse.Query) (warehouse.Rows, error) {
	if err := t.sent(); err != nil {
		return nil, err
	}
	return read(ctx, t.conn(), t.table(q.Table), q)
}

// Create makes a table without its keys.
func (t *tx) Create(ctx context.Context, table *warehouse.Table) error {
	there := false // a role may own the schema, and not be allowed to make one
	if err := t.sent(); err != nil {
		return err
	}
	if err := t.conn().QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_namespace WHERE nspname = $1)", t.schema).Scan(&there); err != nil {
		return dberror.Postgres(err)
	}
	if !there {
		if err := t.exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+quote(t.schema)); err != nil {
			return err
		}
	}
	t.made[table.Name] = table.Partition == nil
	clear(t.there)
	if err := t.exec(ctx, t.createTable(table)); err != nil {
		return err
	}
	if table.Partition != nil {
		delete(t.divided, table.Name)
		if err := t.exec(ctx, t.restOf(table)); err != nil {
			return err
		}
	}
	return t.grant(ctx, []string{table.Name})
}

func (db *DB) createTable(table *warehouse.Table) string {
	var parts []string
	for _, c := range table.Columns {
		part := quote(c.Name) + " " + declared(c.Type)
		if c.Type.Kind == column.Text {
			part += ` COLLATE "C"`
		}
		if c.NotNull {
			part += " NOT NULL"
		}
		parts = append(parts, part)
	}
	return fmt.Sprintf("CREATE TABLE %s (\n  %s\n)", db.table(table.Name), strings.Join(parts, ",\n  ")) + dividing(table)
}

// constraint is a key of a table: its name and the statement that adds it.
type constraint struct{ name, add string }

func (db *DB) constraints(table *warehouse.Table) []constraint {
	var list []constraint
	add := func(name, what string) {
		name = clip(name)
		list = append(
			list,
			constraint{
				name,
				fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s %s", db.table(table.Name), quote(name), what),
			},
		)
	}
	if len(table.Primary) > 0 {
		add(table.Name+"_key", "PRIMARY KEY ("+quoteAll(unique(table), "%")+")")
	}
	if len(table.Unique) > 0 {
		add(table.Name+"_unique", "UNIQUE ("+quoteAll(table.Unique, "%")+")")
	}
	foreign := slices.Clone(table.Foreign) // in one order for all tables, since each locks what it points to
	slices.SortFunc(foreign, func(a, b warehouse.Foreign) int {
		return cmp.Or(strings.Compare(a.Table, b.Table), strings.Compare(a.Column, b.Column))
	})
	for _, f := range foreign {
		add(
			table.Name+"_"+f.Column,
			fmt.Sprintf(
				"FOREIGN KEY (%s) REFERENCES %s (%s) DEFERRABLE INITIALLY DEFERRED",
				quote(f.Column),
				db.table(f.Table),
				quote(f.Key),
			),
		)
	}
	return list
}

// createView returns the statement that makes a view in the schema.
func (db *DB) createView(v *warehouse.View) string {
	return "CREATE VIEW " + db.table(v.Name) + " AS " + v.SQL(quote, db.table)
}

// Constrain adds the keys that the table does not have yet. A table that it refers to must have its own.
func (t *tx) Constrain(ctx context.Context, table *warehouse.Table) error {
	if err := t.sent(); err != nil {
		return err
	}
	rows, err := t.conn().
		Query(ctx, `SELECT conname FROM pg_constraint WHERE conrelid = $1::regclass`, t.table(table.Name))
	if err != nil {
		return dberror.Postgres(err)
	}
	there, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return dberror.Postgres(err)
	}
	for _, c := range t.constraints(table) {
		if slices.Contains(there, c.name) {
			continue
		}
		if err := t.exec(ctx, c.add); err != nil {
			return err
		}
	}
	for _, sql := range t.index(table) {
		if err := t.exec(ctx, sql); err != nil {
			return err
		}
	}
	return t.comment(ctx, table)
}

// index returns the statement that makes the index of a table by which rows are found, if it has one.
func (db *DB) index(table *warehouse.Table) []string {
	if len(table.Index) == 0 {
		return nil
	}
	return []string{
		fmt.Sprintf(
			"CREATE INDEX IF NOT EXISTS %s ON %s (%s)",
			quote(clip(table.Name+"_index")),
			db.table(table.Name),
			quoteAll(table.Index, "%"),
		),
	}
}

// maxName is how many bytes of a name PostgreSQL keeps; it cuts what is longer.
const maxName = 63

// clip shortens a name to what PostgreSQL keeps, by its end's fingerprint.
func clip(name string) string {
	if len(name) <= maxName {
		return name
	}
	h := fnv.New32a()
	h.Write([]byte(name))
	return strings.ToValidUTF8(name[:54], "") + fmt.Sprintf("_%08x", h.Sum32())
}

// AddColumn adds a column.
func (t *tx) AddColumn(ctx context.Context, table string, c warehouse.Column, fill *int64) error {
	clear(t.there)
	add := "ALTER TABLE " + t.table(table) + " ADD COLUMN " + quote(c.Name) + " " + declared(c.Type)
	if c.Type.Kind == column.Text {
		add += ` COLLATE "C"`
	}
	if c.NotNull {
		add += " NOT NULL"
	}
	if fill == nil {
		return t.exec(ctx, add)
	}
	if err := t.exec(ctx, fmt.Sprintf("%s DEFAULT '%d'", add, *fill)); err != nil {
		return err
	}
	return t.exec(ctx, "ALTER TABLE "+t.table(table)+" ALTER COLUMN "+quote(c.Name)+" DROP DEFAULT")
}

// DropView removes a view.
func (t *tx) DropView(ctx context.Context, name string) error {
	clear(t.there)
	return t.exec(ctx, "DROP VIEW IF EXISTS "+t.table(name))
}

// Drop removes a table.
func (t *tx) Drop(ctx context.Context, table string) error {
	clear(t.there)
	return t.exec(ctx, "DROP TABLE "+t.table(table))
}

// Clear removes all rows of a table.
func (t *tx) Clear(ctx context.Context, table string) error {
	return t.exec(ctx, "DELETE FROM "+t.table(table))
}

// CreateView makes a view.
func (t *tx) CreateView(ctx context.Context, v *warehouse.View) error {
	clear(t.there)
	if err := t.exec(ctx, t.createView(v)); err != nil {
		return err
	}
	return t.grant(ctx, []string{v.Name})
}
