package ledger

import (
	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

var (
	integer   = column.Type{Kind: column.Integer}
	text      = column.Type{Kind: column.Text}
	date      = column.Type{Kind: column.Date}
	timestamp = column.Type{Kind: column.Timestamp}
	boolean   = column.Type{Kind: column.Boolean}
)

func required(name string, t column.Type) warehouse.Column {
	return warehouse.Column{Field: column.Field{Name: name, Type: t}, NotNull: true}
}

func optional(name string, t column.Type) warehouse.Column {
	return warehouse.Column{Field: column.Field{Name: name, Type: t}}
}

// The tables of the ledger. Times are UTC.
var (
	runTable = &warehouse.Table{
		Name:    "load_run",
		Primary: []string{"run"},
		Columns: []warehouse.Column{
			required("run", integer), required("state", text), required("started_at", timestamp),
			optional("ended_at", timestamp), required("program", text), required("holder", text),
			required("parameters", text), required("model_file", text), required("model", text),
			optional("message", text), optional("shortened", boolean),
		},
	}
	stepTable = &warehouse.Table{
		Name:    "load_step",
		Primary: []string{"run", "step"},
		Columns: []warehouse.Column{
			required("run", integer), required("step", text), required("state", text), optional("message", text),
			optional("started_at", timestamp), optional("ended_at", timestamp), required("rows_read", integer),
			required("rows_written", integer), required("rows_same", integer), required("rows_set_aside", integer),
			required("figures", text),
		},
	}
	keyTable = &warehouse.Table{
		Name:    "load_key",
		Primary: []string{"dimension"},
		Columns: []warehouse.Column{
			required("dimension", text), required("highest_key", integer), required("changed_by", text),
		},
	}
	inferredTable = &warehouse.Table{
		Name:    "load_inferred",
		Primary: []string{"dimension", "member_key"},
		Columns: []warehouse.Column{
			required("dimension", text), required("member_key", integer), required("inferred_run", integer),
			optional("filled_run", integer),
		},
	}
	referenceTable = &warehouse.Table{
		Name:    "load_reference",
		Primary: []string{"table_name", "key_column"},
		Columns: []warehouse.Column{
			required("table_name", text), required("key_column", text), required("points_to", text),
			required("outrigger", boolean), required("time_column", text), required("by_day", boolean),
			optional("time_type", text), required("durable", boolean),
		},
	}
	columnTable = &warehouse.Table{
		Name:    "load_column",
		Primary: []string{"table_name", "column_name"},
		Columns: []warehouse.Column{
			required("table_name", text), required("column_name", text), required("added_run", integer),
		},
	}
	erasedTable = &warehouse.Table{
		Name:    "load_erased",
		Primary: []string{"dimension", "member_key"},
		Columns: []warehouse.Column{
			required("dimension", text), required("member_key", integer),
		},
	}
	deliveryTable = &warehouse.Table{
		Name:    "load_delivery",
		Primary: []string{"dimension", "scope", "delivered_on"},
		Columns: []warehouse.Column{
			required("dimension", text), required("scope", text), required("delivered_on", timestamp),
			required("run", integer),
		},
	}
	scopeTable = &warehouse.Table{
		Name:    "load_scope",
		Primary: []string{"dimension", "member"},
		Columns: []warehouse.Column{
			required("dimension", text), required("member", text), required("scope", text),
			required("delivered_on", timestamp),
		},
	}
	shapeTable = &warehouse.Table{
		Name:    "load_shape",
		Primary: []string{"table_name", "aspect"},
		Columns: []warehouse.Column{
			required("table_name", text), required("aspect", text), required("meant", text),
		},
	}
	accountTable = &warehouse.Table{
		Name:    "load_account",
		Primary: []string{"table_name", "measure"},
		Columns: []warehouse.Column{
			required("table_name", text), required("measure", text), required("amount", text),
			required("run", integer),
		},
	}
	fileTable = &warehouse.Table{
		Name:    "load_file",
		Primary: []string{"file"},
		Columns: []warehouse.Column{
			required("file", integer), required("name", text), required("first_run", integer),
			optional("content", text), optional("moved_from", integer), optional("head", text),
		},
	}
	tieTable = &warehouse.Table{
		Name:    "load_tie",
		Primary: []string{"dimension", "row_hash", "other_hash"},
		Columns: []warehouse.Column{
			required("dimension", text), required("row_hash", text), required("other_hash", text),
			required("file", integer), required("times", integer), required("run", integer),
		},
	}
	readTable = &warehouse.Table{
		Name:    "load_read",
		Primary: []string{"step", "source", "file"},
		Columns: []warehouse.Column{
			required("step", text), required("source", text), required("file", text), required("size", integer),
			required(
				"changed",
				text,
			), required("depends_on", text), required("again", boolean), required("run", integer),
		},
	}
	markTable = &warehouse.Table{
		Name:    "load_mark",
		Primary: []string{"step", "source", "read"},
		Columns: []warehouse.Column{
			required("step", text), required("source", text), required("read", text), required("mark", text),
			required("depends_on", text), required("run", integer),
		},
	}
	deliveredTable = &warehouse.Table{
		Name:    "load_delivered",
		Primary: []string{"source", "file"},
		Columns: []warehouse.Column{
			required("source", text), required("file", text), required("size", integer), required("changed", text),
			required("content", text), required("delivered_on", date), required("run", integer),
		},
	}
	openKeyTable = &warehouse.Table{
		Name:    "load_open_key",
		Primary: []string{"table_name", "key_column", "row_id"},
		Columns: []warehouse.Column{
			required("table_name", text), required("key_column", text), required("row_id", text),
			required("natural_key", text), optional("as_of", integer), required("run", integer),
		},
	}
	asideTable = &warehouse.Table{
		Name:    "load_aside",
		Primary: []string{"id"},
		Index:   []string{"step", "state", "cleared_by"},
		Columns: []warehouse.Column{
			required("id", integer), required("step", text), required("source", text), required("file", text),
			required("line", integer), required("content_hash", text), required("reasons", text),
			required("content", text), optional("member", text), optional("grain", text),
			required("repeats", boolean), required("first_run", integer), required("last_run", integer),
			optional("superseded_by", integer), optional("cleared_by", integer), required("state", text),
			optional("whole", boolean),
		},
	}
	causeTable = &warehouse.Table{
		Name:    "load_aside_reason",
		Primary: []string{"id", "number"},
		Columns: []warehouse.Column{
			required("id", integer), required("number", integer), required("reason", text), optional("key", text),
			optional("value", text),
		},
	}
)

// Tables lists the ledger's tables.
func Tables() []*warehouse.Table {
	return []*warehouse.Table{
		columnTable,
		runTable,
		stepTable,
		keyTable,
		inferredTable,
		referenceTable,
		erasedTable,
		deliveryTable,
		scopeTable,
		shapeTable,
		accountTable,
		fileTable,
		tieTable,
		readTable,
		markTable,
		deliveredTable,
		openKeyTable,
		asideTable,
		causeTable,
		beforeTable,
	}
}
