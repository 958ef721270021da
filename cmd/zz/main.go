package main

import (
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/parquet-go/parquet-go"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/parquetfile"
	"ironmonger/internal/parse"
	"ironmonger/internal/trinodb"
	"context"
)

func check(err error) {
	if err != nil {
		panic(err)
	}
}

// zz DIR SCHEMA
func main() {
	dir, schema := os.Args[1], os.Args[2]
	db, err := trinodb.Open("http://localhost:18080", nil)
	check(err)
	types := strings.Fields("passage_no:integer registry:text vessel_reg:text lock_code:text cargo_code:text keeper_no:integer booked_on:date passed_at:timestamp settled_on:date tonnage:decimal(8,2) rate:decimal(5,4) rebate:decimal(5,4) wait_minutes:integer remark:text")
	var fields []column.Field
	var cols []string
	for _, t := range types {
		n, ty, _ := strings.Cut(t, ":")
		typ, err := column.ParseType(ty)
		check(err)
		fields = append(fields, column.Field{Name: n, Type: typ})
		cols = append(cols, n+" "+expr.TrinoType(typ))
	}
	ctx := context.Background()
	_, err = db.ExecContext(ctx, "CREATE SCHEMA IF NOT EXISTS raw."+schema)
	check(err)
	_, err = db.ExecContext(ctx, "CREATE TABLE raw."+schema+".passages ("+strings.Join(cols, ", ")+")")
	check(err)
	folder := "/dev/shm/tr/files/raw_" + schema
	os.MkdirAll(folder, 0o777)
	files, _ := filepath.Glob(filepath.Join(dir, "passages-*.csv"))
	total := 0
	part := 0
	var out *parquetfile.Writer
	var f *os.File
	open := func() {
		f, err = os.Create(fmt.Sprintf("%s/part%03d.parquet", folder, part))
		check(err)
		out, err = parquetfile.New(f, fields)
		check(err)
		part++
	}
	shut := func() { check(out.Close()); check(f.Close()) }
	open()
	b := column.NewBatch(fields)
	b.Reset(1)
	p := column.Pointers(b.Cols)
	rd := parse.NewReader(nil)
	rows := make([]parquet.Row, 1)
	for _, file := range files {
		in, err := os.Open(file)
		check(err)
		r := csv.NewReader(in)
		r.ReuseRecord = true
		r.Read()
		for {
			rec, err := r.Read()
			if err == io.EOF {
				break
			}
			check(err)
			for k, v := range rec {
				if v == "" {
					b.Cols[k].SetNull(0)
				} else {
					b.Cols[k].Null[0] = false
					check(rd.Set(&b.Cols[k], 0, v))
				}
			}
			rows[0] = parquetfile.Row(rows[0], p, 0)
			_, err = out.WriteRows(rows)
			check(err)
			if total++; total%1000000 == 0 {
				shut()
				open()
			}
		}
		in.Close()
	}
	shut()
	_, err = db.ExecContext(ctx, "ALTER TABLE raw."+schema+".passages EXECUTE add_files(location => 'local:///raw_"+schema+"', format => 'PARQUET')")
	check(err)
	fmt.Println(total)
}
