package warehouse

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
)

// Bookkeeping is what the names of the tables begin with that say what was loaded, and that no table of a star may begin
// with: small tables that change with every load, which a warehouse may keep elsewhere than large ones.
const Bookkeeping = "load_"

// Location says where a star stands.
type Location struct {
	Kind       string // the name of a registered driver
	Path       string // of a database that is a file
	Connection string // to a server, in its own words
	Schema     string // of a server's database, or of a catalog

	Server             string // of an engine whose tables are files, in the form of a URL
	Published, Working string // the catalogs that it knows: of what readers see, and of what is being made
	Staging, StagedAt  string // a folder for rows on their way to it, as seen from here and from there; "" if none

	Permissions fs.FileMode // of a file that is made; 0 is its owner's alone
	Readers     []string    // roles that may read what is made
}

// Same reports whether two locations are the same place.
func (l Location) Same(o Location) bool {
	return l.Kind == o.Kind && l.Path == o.Path && l.Connection == o.Connection && l.Schema == o.Schema && l.Published == o.Published
}

// Mode says what a warehouse is opened for.
type Mode int

const (
	ToWrite Mode = iota // to load into; what can be made is made
	ToRead              // to be read alone; the error is [fs.ErrNotExist] where nothing was ever loaded
	ToTry               // to write what is rolled back in the end; nothing is made where nothing stands
)

// Capabilities says what a database can do; a caller plans by them.
type Capabilities struct {
	Writers          int  // how many transactions may write at the same time
	Ahead            bool // where one does, others are worth reading in snapshots meanwhile
	TransactionalDDL bool // a table that a transaction makes is gone when it is rolled back
	RowUpdates       bool // rows can be changed where they are
	MaxName          int  // bytes of a name; 0 is no limit
	Keyless          bool // it has no keys, and columns that are added may be null: what is unique is for the caller to see to
	LowerCase        bool // names have no capital letters
	Partitions       bool // tables can have partitions
}

// Driver is a kind of database. Its package registers it.
type Driver interface {
	// Open opens the warehouse at a location.
	Open(ctx context.Context, at Location, mode Mode) (Warehouse, error)
	Capabilities() Capabilities
	// Dialect returns the statements that make the tables at a location, for people.
	Dialect(at Location) Dialect
}

// Dialect writes the statements that make and drop what stands in a warehouse.
type Dialect interface {
	Before() []string // what has to be there before the first table
	Table(t *Table) []string
	View(v *View) string
	Quote(name string) string
}

var registry struct {
	sync.RWMutex
	drivers map[string]Driver
}

// Register makes a driver known under the name of its kind. It panics if the name is taken.
func Register(kind string, d Driver) {
	registry.Lock()
	defer registry.Unlock()
	if _, taken := registry.drivers[kind]; taken {
		panic("warehouse: two drivers of the kind " + kind)
	}
	if registry.drivers == nil {
		registry.drivers = map[string]Driver{}
	}
	registry.drivers[kind] = d
}

// Kinds lists the kinds of registered drivers, sorted.
func Kinds() []string {
	registry.RLock()
	defer registry.RUnlock()
	return slices.Sorted(maps.Keys(registry.drivers))
}

// DriverOf returns the driver of a kind.
func DriverOf(kind string) (Driver, error) {
	registry.RLock()
	defer registry.RUnlock()
	d, ok := registry.drivers[kind]
	if !ok {
		return nil, fmt.Errorf(
			"the program has no driver for a warehouse of the kind %s (there is: %s)",
			kind, strings.Join(slices.Sorted(maps.Keys(registry.drivers)), ", "),
		)
	}
	return d, nil
}

// Open opens the warehouse at a location by the driver of its kind.
func Open(ctx context.Context, at Location, mode Mode) (Warehouse, error) {
	d, err := DriverOf(at.Kind)
	if err != nil {
		return nil, err
	}
	return d.Open(ctx, at, mode)
}

// Passing returns a warehouse whose folder is removed once it is closed.
func Passing(w Warehouse, dir string) Warehouse { return &passing{w, dir} }

type passing struct {
	Warehouse
	dir string
}

func (p *passing) Close() error { return errors.Join(p.Warehouse.Close(), os.RemoveAll(p.dir)) }
