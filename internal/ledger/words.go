package ledger

import "ironmonger/internal/warehouse"

// Word is what people are told of a table of the ledger, or of a column of it.
type Word struct{ Name, Says string }

// TableWords is what people are told of a table and of its columns, in their order.
type TableWords struct {
	Word
	Columns []Word
}

// WordsOf returns what people are told of the ledger.
func WordsOf() []TableWords {
	var list []TableWords
	for _, t := range Tables() {
		of := TableWords{Word: Word{t.Name, words[t.Name][""]}}
		for _, c := range t.Columns {
			of.Columns = append(of.Columns, Word{c.Name, says(t, c)})
		}
		list = append(list, of)
	}
	return list
}

// says returns what is said of a column in its table, or else wherever it stands.
func says(t *warehouse.Table, c warehouse.Column) string {
	if text := words[t.Name][c.Name]; text != "" {
		return text
	}
	return words[""][c.Name]
}

// words is what is said of tables, under "" in each, and of their columns; first of columns that mean the same
// everywhere.
var words = map[string]map[string]string{
	"": {
		"run":        "the last run that wrote the row",
		"step":       "the step, such as `fact passage`",
		"dimension":  "the dimension",
		"source":     "the source",
		"table_name": "the table",
		"file":       "the file, as the model's folder has it",
		"size":       "its bytes",
		"changed":    "what the system says of its last change",
		"depends_on": "a digest of all else that decides what becomes of its rows: the model, parameters, other files",
		"scope":      "the scope within which a delivery has all members; empty if there is one",
		"member_key": "the surrogate key of the member",
	},
	"load_column": {
		"":            "the columns that a load has added to tables that had rows",
		"column_name": "the column",
		"added_run":   "the run that added it",
	},
	"load_run": {
		"":           "the runs: loads, rebuilds and what took runs back",
		"run":        "the number of the run",
		"state":      "running, done, failed, broken off (it died) or undone (it was taken back)",
		"started_at": "when it began, in UTC",
		"ended_at":   "when it ended, in UTC",
		"program":    "the program with its version",
		"holder":     "the process, the user and the computer",
		"parameters": "the values of the parameters as JSON, without secrets",
		"model_file": "the model's file",
		"model":      "its text",
		"message":    "why the run did not begin, or what it took back",
		"shortened":  "true if the details of the run are not kept any more (`ledger: {keep: ...}`)",
	},
	"load_step": {
		"":               "the steps of the runs",
		"run":            "the run",
		"state":          "done, failed, or not run (a step that it needs failed)",
		"message":        "why it failed",
		"started_at":     "when it began, in UTC",
		"ended_at":       "when it ended, in UTC",
		"rows_read":      "rows that it read",
		"rows_written":   "rows that it added or changed",
		"rows_same":      "rows that were there already",
		"rows_set_aside": "rows that it set aside",
		"figures":        "all figures as JSON, as `ironmonger runs NUMBER --format json` has them",
	},
	"load_key": {
		"":            "the highest surrogate key that was ever given in a dimension",
		"highest_key": "that key",
		"changed_by":  "the run and step that changed the dimension last",
	},
	"load_inferred": {
		"":             "the members that were ever inferred",
		"inferred_run": "the run that made the member",
		"filled_run":   "the run whose source described it; null if none has yet",
	},
	"load_reference": {
		"":            "the columns of tables that point to dimensions, of all models of the warehouse",
		"key_column":  "the column that points",
		"points_to":   "the table of the dimension",
		"outrigger":   "true if the column is in a dimension, and points to the current version",
		"time_column": "the column that says which version; empty if none does",
		"by_day":      "true if that is a key such as 20250331",
		"time_type":   "its type",
		"durable":     "true if the column has the durable key",
	},
	"load_erased": {"": "the members whose personal attributes were erased"},
	"load_delivery": {
		"":             "the deliveries of all members or facts that were loaded",
		"dimension":    "the dimension, or `fact` and the fact",
		"delivered_on": "when it was delivered",
	},
	"load_scope": {
		"":             "where and when members were delivered last, if their versions do not tell",
		"member":       "the natural key as JSON",
		"delivered_on": "when it was delivered last",
	},
	"load_shape": {
		"":       "what tables were meant to be when they were loaded, besides their columns",
		"aspect": "what is meant, such as the grain",
		"meant":  "how it is meant",
	},
	"load_account": {
		"":        "what tables hold by arithmetic: what they held, plus what steps wrote, minus what they removed",
		"measure": "the measure that is added up; empty for the number of rows",
		"amount":  "the exact total",
	},
	"load_file": {
		"":           "the files of facts in the order in which they came first; `load_line` of a fact is the number of its file times a thousand million, plus the line",
		"file":       "the number of the file",
		"name":       "its name",
		"first_run":  "the run that met it first",
		"content":    "a digest of what was in it when it was read last, where that counts",
		"moved_from": "its number under a former name",
		"head":       "the header, if rows of it are set aside",
	},
	"load_tie": {
		"":           "rows of dimensions that lost to another row of the same effective time",
		"row_hash":   "a digest of the row's key, time and type 2 values",
		"other_hash": "a digest of its other values",
		"file":       "the number of the last file that had it",
		"times":      "how many such rows there were",
	},
	"load_read": {
		"":      "the files that steps have read",
		"again": "true if it is read again although it has not changed",
	},
	"load_mark": {
		"":     "how far steps have read tables and queries of which only new rows are read",
		"read": "the table or query",
		"mark": "the greatest value of the column by which new rows are known",
	},
	"load_delivered": {
		"":             "when files were delivered whose names do not say it",
		"content":      "a digest of what was in the file",
		"delivered_on": "the day",
	},
	"load_open_key": {
		"":            "keys of facts that have no member yet, and get one when it comes",
		"key_column":  "the column",
		"row_id":      "what tells the fact from others, as JSON",
		"natural_key": "the natural key as JSON",
		"as_of":       "the time whose version it points to then",
	},
	"load_aside": {
		"":              "rows set aside",
		"id":            "the number of the entry",
		"line":          "the line of the file",
		"content_hash":  "a digest of the row, by which it is known again",
		"reasons":       "the reasons as text",
		"content":       "the row, up to 4,096 characters",
		"member":        "the natural key of the member that the row is of",
		"grain":         "a digest of the grain that the row is of",
		"repeats":       "true if a row of its grain stands in the table",
		"first_run":     "the run that set it aside first",
		"last_run":      "the run that met it last",
		"superseded_by": "the run that loaded another row of its grain",
		"cleared_by":    "the run that cleared it",
		"state":         "waiting, cleared (it passed or is gone) or of a failed step",
		"whole":         "true if content is all of the row",
	},
	"load_aside_reason": {
		"":       "the reasons why rows are set aside",
		"id":     "the entry of load_aside",
		"number": "the number of the reason",
		"reason": "the reason",
		"key":    "the column or key that it is about",
		"value":  "what the row has there",
	},
	"load_before": {
		"":       "what the last runs changed, so that they can be taken back",
		"run":    "the run",
		"number": "the order in which it was done",
		"did":    "what was done to the table",
		"key":    "what identifies the row, as JSON",
		"row":    "the row before it was changed or removed, as JSON",
	},
}
