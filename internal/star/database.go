package star

import (
	"net/url"
	"regexp"
	"strings"

	"ironmonger/internal/expr"
)

// Database is a database that sources read from.
type Database struct {
	Name
	Kind       string // sqlite, postgres, mysql or trino
	Path       string // sqlite: the file, as seen from the model's folder
	Connection string // the others: where it is, in words such as host=db.example user=reader, or the address of a server

	connection Name
}

// MySQL is a kind of [Database]: MySQL or MariaDB.
const MySQL = "mysql"

func (r *reader) databaseEntries(d *Database) []Entry {
	kind := func(kind string) func(n *node) {
		return func(n *node) {
			if d.Kind != "" {
				r.errorf(n.key.At, n.path, "a database is of one kind: %s or %s", d.Kind, kind)
			}
			d.Kind = kind
			d.connection, _ = r.word(n, "where it is")
		}
	}
	return []Entry{
		{"sqlite", "a file", "an SQLite database, relative to the folder of the model", false, kind(SQLite)},
		{"postgres", "a connection string", "a PostgreSQL database, as for the warehouse", false, kind(Postgres)},
		{
			"mysql",
			"a connection string",
			"a MySQL or MariaDB database, in words such as `host=db.example port=3306 user=reader dbname=canal`, or `socket=/run/mysqld.sock`; the defaults are this machine, port 3306 and the name of the user",
			false,
			kind(MySQL),
		},
		{
			"trino",
			"an address",
			"a Trino server, such as `http://reader@trino.example:8080`; its tables are called `catalog.schema.table`, in queries, too",
			false,
			kind(Trino),
		},
	}
}

// A password stands in a connection only as a secret parameter.
var password = regexp.MustCompile(`(?i)\bpassword\s*=\s*[^{\s]|://[^/@\s]*:[^{/@\s][^/@\s]*@`)

func (r *reader) withoutPassword(w Name, path string) bool {
	if password.MatchString(w.Text) {
		r.errorf(
			w.At,
			path,
			"a password has no place in a model: use a parameter of type secret (password={name}), PGPASSWORD, a service file or a password file",
		)
		return false
	}
	return true
}

// connect returns a connection the values of parameters, secret ones too.
func (r *reader) connect(w Name, path string) string {
	if !r.withoutPassword(w, path) {
		return ""
	}
	text, _ := r.replace(w, path, func(p *expr.Parameter, secret bool) (string, bool) {
		if !secret && strings.Contains(w.Text, "password={"+p.Name+"}") {
			r.errorf(
				w.At,
				path,
				"parameter %s is a password, and would stand in the ledger: make its type secret",
				p.Name,
			)
		}
		if strings.Contains(w.Text, "://") {
			return strings.ReplaceAll(url.QueryEscape(p.Value), "+", "%20"), true
		}
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(p.Value) + "'", true
	})
	return text
}

// databases completes what sources read from.
func (r *reader) databases(m *Model) {
	for _, d := range m.Databases {
		path := "databases." + d.Text
		switch {
		case d.Kind == "":
			r.errorf(d.At, path, "where is it? sqlite: a file; postgres: or mysql: a connection string; trino: an address")
		case d.Kind == SQLite:
			d.Path = r.fill(d.connection, path).Text
		default:
			d.Connection = r.connect(d.connection, path)
		}
	}
}
