package star

import (
	"io/fs"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v3"

	"ironmonger/internal/diag"
)

// Warehouse is where the star stands.
type Warehouse struct {
	Kind       string // sqlite, postgres or trino
	Path       string // sqlite: the database file, as seen from the model's folder
	Connection string // postgres, trino: where the database, or that of the catalog, is, as its clients write it; no password
	Schema     string // postgres, trino: the schema of all tables

	Server             string // trino: its address
	Published, Working string // trino: the catalogs of what readers see, and of what is being made
	Staging, StagedAt  string // trino: the folder for rows on their way to it, as seen from the model's folder, and its location there

	Permissions fs.FileMode // sqlite: of a database file that is made; 0 is its owner's alone
	Readers     []string    // postgres: roles that may read all tables

	path, connection, schema, server, catalog, published, working, staging, stagedAt Name // as written
	named                                                                            Name // by which a call chooses it
}

// Kinds of warehouses.
const (
	SQLite   = "sqlite"
	Postgres = "postgres"
	Trino    = "trino"
)

// warehouse reads where the star is, or which of several places that is.
func (r *reader) warehouse(m *Model, n *node) {
	if n.Kind == yaml.ScalarNode {
		m.inWarehouse, _ = r.word(n, "keys, or the name of a warehouse")
		return
	}
	r.oneWarehouse(&m.Warehouse, n)
}

func (r *reader) oneWarehouse(w *Warehouse, n *node) {
	r.section(n, r.warehouseEntries(w))
	switch {
	case w.Kind == "":
		r.errorf(n.key.At, n.path, "where does the star stand? sqlite: a file, postgres: a connection string, or trino: an address")
	case w.Kind == SQLite && w.schema.Text != "":
		r.errorf(n.key.At, n.path, "an SQLite database has no schemas")
	case w.Kind == Postgres && w.Permissions != 0:
		r.errorf(n.key.At, n.path, "permissions are for the file of an SQLite database")
	case w.Kind == SQLite && len(w.Readers) > 0:
		r.errorf(n.key.At, n.path, "an SQLite database has no roles: permissions say who may read its file")
	}
	for _, key := range w.ofTrino() {
		switch said := key.to.Text != ""; {
		case w.Kind == Trino && !said && !key.optional:
			r.errorf(n.key.At, n.path, "trino wants %s, too: %s", key.name, key.what)
		case w.Kind != Trino && w.Kind != "" && said:
			r.errorf(key.to.At, n.path+"."+key.name, "%s is for trino", key.name)
		}
	}
	if w.Kind == Trino && (w.staging.Text == "") != (w.stagedAt.Text == "") {
		r.errorf(n.key.At, n.path, "staging is a folder, and staged_at what Trino calls it: one wants the other")
	}
}

func (r *reader) warehouseEntries(w *Warehouse) []Entry {
	kind := func(kind string, to *Name) func(n *node) {
		return func(n *node) {
			if w.Kind != "" {
				r.errorf(n.key.At, n.path, "a star stands in one warehouse: %s or %s", w.Kind, kind)
			}
			w.Kind = kind
			*to, _ = r.word(n, "where it is")
		}
	}
	return []Entry{
		{
			"sqlite",
			"a file",
			"an SQLite database; it is created if it does not exist; relative to the folder of the model",
			false,
			kind(SQLite, &w.path),
		},
		{
			"postgres",
			"a connection string",
			"a PostgreSQL database, such as `service=canal` or `host=db.example dbname=canal`; the rest comes from PG* variables, the service file and the password file. A model has no passwords",
			false,
			kind(Postgres, &w.connection),
		},
		{
			"trino",
			"an address",
			"a Trino server, such as `http://loader@trino.example:8080`, with Iceberg tables whose catalog is a PostgreSQL database. It wants catalog, published and working, too",
			false,
			kind(Trino, &w.server),
		},
		{
			"catalog",
			"a connection string",
			"with trino, the PostgreSQL database of the catalogs, in which the ledger stands, too: see postgres",
			false,
			func(n *node) { w.catalog, _ = r.word(n, "a connection string") },
		},
		{
			"published",
			"a name",
			"with trino, what it calls the catalog that readers use",
			false,
			func(n *node) { w.published, _ = r.word(n, "a name") },
		},
		{
			"working",
			"a name",
			"with trino, what it calls another catalog on the same database, in which steps make what is published when they end",
			false,
			func(n *node) { w.working, _ = r.word(n, "a name") },
		},
		{
			"staging",
			"a folder",
			"with trino, a folder that all its servers can read, for files with rows on their way to it; relative to the folder of the model. Without one, rows go there in statements, some thousand a second",
			false,
			func(n *node) { w.staging, _ = r.word(n, "a folder") },
		},
		{
			"staged_at",
			"a location",
			"with trino, what it calls that folder, such as `local:///staging`",
			false,
			func(n *node) { w.stagedAt, _ = r.word(n, "a location") },
		},
		{
			"schema",
			"a name",
			"the schema of the tables in PostgreSQL or Trino; the default is public",
			false,
			func(n *node) { w.schema, _ = r.word(n, "a name") },
		},
		{
			"readers",
			"a role or a list",
			"in PostgreSQL, roles that may read all tables and views of the star, also those that a later load makes. The role that loads grants that, so it owns the tables",
			false,
			func(n *node) {
				for _, role := range r.words(n, "a role") {
					w.Readers = append(w.Readers, role.Text)
				}
			},
		},
		{
			"permissions",
			"digits such as 640",
			"of an SQLite database that a load makes: who may read and write it, its owner, its group and others, as chmod has it; the default is 600",
			false,
			func(n *node) {
				text, ok := r.word(n, "digits such as 640")
				v, err := strconv.ParseUint(text.Text, 8, 32)
				if ok && (err != nil || v > 0o777 || v&0o600 != 0o600) {
					r.errorf(text.At, n.path, "%s is not digits such as 640, which let the owner read and write", diag.Printable(text.Text))
				}
				w.Permissions = fs.FileMode(v)
			},
		},
	}
}

// place chooses the warehouse, by the name in a call or else by that of the model, and fills in the values of
// parameters: development and production are one model.
func (r *reader) place(m *Model, name string) {
	path := "warehouse"
	if w := m.inWarehouse; name != "" || w.Text != "" {
		if name != "" {
			w = Name{Text: name, At: diag.Place{File: r.file}}
		}
		at := slices.IndexFunc(m.warehouses, func(x Warehouse) bool { return x.named.Text == w.Text })
		if at < 0 {
			var names []string
			for _, x := range m.warehouses {
				names = append(names, x.named.Text)
			}
			r.errorf(w.At, path, "there is no warehouse %s%s", diag.Printable(w.Text), diag.Suggest(w.Text, names))
			return
		}
		m.Warehouse, path = m.warehouses[at], "warehouses."+w.Text
	}
	w := &m.Warehouse
	if w.path.Text != "" {
		w.Path = r.fill(w.path, path+".sqlite").Text
	}
	switch w.Kind {
	case SQLite, "":
		return
	case Postgres:
		w.Connection = r.connect(w.connection, path+".postgres")
	case Trino:
		for _, key := range w.ofTrino()[1:] {
			*key.value = r.fill(*key.to, path+"."+key.name).Text
		}
		w.Connection = r.connect(w.catalog, path+".catalog")
		w.Server = r.connect(w.server, path+".trino")
	}
	w.Schema = "public"
	if w.schema.Text != "" {
		before := len(r.errs)
		if name := r.fill(w.schema, path+".schema"); len(r.errs) == before {
			w.Schema = r.name(name, path+".schema").Text
		}
	}
}

// trinoKey is a key of a warehouse in Trino.
type trinoKey struct {
	name, what string
	to         *Name
	value      *string
	optional   bool
}

// ofTrino lists the keys of a warehouse in Trino.
func (w *Warehouse) ofTrino() []trinoKey {
	return []trinoKey{
		{"catalog", "the PostgreSQL database of its catalogs", &w.catalog, &w.Connection, false},
		{"published", "the catalog that readers use", &w.published, &w.Published, false},
		{"working", "the catalog in which steps work", &w.working, &w.Working, false},
		{"staging", "a folder for rows on their way", &w.staging, &w.Staging, true},
		{"staged_at", "what Trino calls that folder", &w.stagedAt, &w.StagedAt, true},
	}
}
