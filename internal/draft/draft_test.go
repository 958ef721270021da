package draft_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"ironmonger/internal/draft"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/survey"
)

// scenario is files of a trade, and what a person would say of them: of each source its natural key or grain, then what
// refers to what.
type scenario struct {
	name   string
	write  func(put func(name, text string), r *rand.Rand)
	keys   string // source: columns
	refers string // source.columns > source
}

var scenarios = []scenario{
	{
		name: "library",
		write: func(put func(name, text string), r *rand.Rand) {
			members, books, copies, loans := "Card no.;Name;Joined\n", "isbn,title,shelf,price\n", "copy_id\tisbn\tbought_on\n", "Loans of the town library\n\nLoan no.;Card no.;Copy id;Lent on;Back on;Fee\n"
			for n := range 120 {
				members += fmt.Sprintf("%05d;Reader %d;%02d.%02d.2019\n", 400+n, n%97, 1+n%28, 1+n%12)
			}
			for n := range 80 {
				books += fmt.Sprintf("978-%d,\"Tale, vol. %d\",S%d,%d.50\n", 100200+n*7, n, n%9, 5+n%30)
			}
			for n := range 200 {
				copies += fmt.Sprintf("C%d\t978-%d\t20%02d-03-1%d\n", 1000+n, 100200+(n%80)*7, 10+n%9, n%10)
			}
			for n := range 900 {
				back := fmt.Sprintf("%02d.%02d.2024", 1+n%28, 2+n%11)
				if n%13 == 0 {
					back = ""
				}
				loans += fmt.Sprintf("%d;%05d;C%d;%02d.%02d.2024;%s;%d,%d0\n", 1+n, 400+r.IntN(122), 1000+r.IntN(200), 1+n%28, 1+n%11, back, n%4, n%10)
			}
			put("members.csv", members)
			put("books.csv", books)
			put("copies.txt", copies)
			put("loans 2024.csv", loans+"Total;;;;;1234,50\n")
		},
		keys:   "members: card_no; books: isbn; copies: copy_id; loans: loan_no",
		refers: "copies.isbn > books; loans.card_no > members; loans.copy_id > copies",
	},
	{
		name: "school, many to many",
		write: func(put func(name, text string), r *rand.Rand) {
			students, courses, enrolments := "student_id,name,born\n", "course_code,title,credits\n", "student_id,course_code,term,mark\n"
			for n := range 150 {
				students += fmt.Sprintf("%d,Pupil %d,2008-%02d-%02d\n", 7000+n, n%140, 1+n%12, 1+n%28)
			}
			for n := range 12 {
				courses += fmt.Sprintf("K%02d,Course %d,%d\n", n, n, 2+n%4)
			}
			for n := range 150 {
				for k := range 4 {
					for _, term := range []string{"2023A", "2023B", "2024A"} {
						if r.IntN(4) > 0 {
							enrolments += fmt.Sprintf("%d,K%02d,%s,%d.%d\n", 7000+n, (n+k*3)%12, term, 1+r.IntN(5), r.IntN(10))
						}
					}
				}
			}
			put("students.csv", students)
			put("courses.csv", courses)
			put("enrolments.csv", enrolments)
		},
		keys:   "students: student_id; courses: course_code; enrolments: student_id course_code term",
		refers: "enrolments.student_id > students; enrolments.course_code > courses",
	},
	{
		name: "no facts",
		write: func(put func(name, text string), r *rand.Rand) {
			countries, regions, towns := "code|name\n", "region_id|region|country_code\n", "town_id|town|region_id\n"
			for n := range 8 {
				countries += fmt.Sprintf("X%c|Land %d\n", 'A'+n, n)
			}
			for n := range 40 {
				regions += fmt.Sprintf("%d|Region %d|X%c\n", 100+n, n, 'A'+n%8)
			}
			for n := range 300 {
				towns += fmt.Sprintf("%d|Town %d|%d\n", 5000+n, n%290, 100+r.IntN(40))
			}
			put("countries.csv", countries)
			put("regions.csv", regions)
			put("towns.csv", towns)
		},
		keys:   "countries: code; regions: region_id; towns: town_id",
		refers: "regions.country_code > countries; towns.region_id > regions",
	},
	{
		name: "wide",
		write: func(put func(name, text string), r *rand.Rand) {
			wells, tests := "well,field,depth_m\n", "test_no,well,tested_at"
			for n := range 60 {
				wells += fmt.Sprintf("W-%03d,Field %c,%d\n", n, 'A'+n%5, 800+n*3)
			}
			for k := range 60 {
				tests += fmt.Sprintf(",p%02d", k)
			}
			tests += "\n"
			for n := range 400 {
				tests += fmt.Sprintf("%d,W-%03d,2025-%02d-%02d %02d:15:00", 90000+n, r.IntN(60), 1+n%12, 1+n%28, n%24)
				for range 60 {
					tests += fmt.Sprintf(",%d.%03d", r.IntN(90), r.IntN(1000))
				}
				tests += "\n"
			}
			put("wells.csv", wells)
			put("tests.csv", tests)
		},
		keys:   "wells: well; tests: test_no",
		refers: "tests.well > wells",
	},
	{
		name: "200 files, members with a history",
		write: func(put func(name, text string), r *rand.Rand) {
			shops := "shop,manager,size_m2,valid_from\n"
			for n := range 30 {
				for k := range 1 + n%3 {
					shops += fmt.Sprintf("S%02d,Manager %d,%d,202%d-01-0%d\n", n, n*3+k, 100+n*5+k, k, 1+n%9)
				}
			}
			articles := "article_no,name,group\n"
			for n := range 90 {
				articles += fmt.Sprintf("A%04d,Thing %d,G%d\n", n*11, n, n%7)
			}
			put("shops.csv", shops)
			put("articles.csv", articles)
			for day := range 200 {
				text := "receipt_no,line,shop,article_no,sold_on,pieces,amount\n"
				for n := range 30 {
					text += fmt.Sprintf("%d,%d,S%02d,A%04d,2024-%02d-%02d,%d,%d.%02d\n", day*100+n/3, 1+n%3, r.IntN(30), r.IntN(90)*11, 1+day/28%12, 1+day%28, 1+r.IntN(5), r.IntN(200), r.IntN(100))
				}
				put(fmt.Sprintf("sales/sales_%03d.csv", day), text)
			}
		},
		keys:   "shops: shop @valid_from; articles: article_no; sales: receipt_no line",
		refers: "sales.shop > shops; sales.article_no > articles",
	},
	{
		name: "names that say little",
		write: func(put func(name, text string), r *rand.Rand) {
			clients, orders := "{\"code\": \"Q0001\", \"address\": {\"town\": \"Aldmere\", \"zip\": \"00712\"}, \"tags\": [1]}\n", "id,buyer,placed,value\n"
			for n := range 70 {
				clients += fmt.Sprintf("{\"code\": \"Q%04d\", \"address\": {\"town\": \"Town %d\", \"zip\": \"0%04d\"}, \"tags\": [1, 2]}\n", 2+n, n%20, n*13)
			}
			for n := range 500 {
				orders += fmt.Sprintf("%d,Q%04d,%d/%d/2024,%d.%02d\n", n+1, 1+r.IntN(71), 1+n%12, 1+n%28, r.IntN(900), r.IntN(100))
			}
			put("clients.json", "["+strings.ReplaceAll(strings.TrimSpace(clients), "\n", ",\n ")+"]")
			put("orders.csv", orders)
		},
		keys:   "clients: code; orders: id",
		refers: "orders.buyer > clients",
	},
	{
		name: "bakery",
		write: func(put func(name, text string), r *rand.Rand) {
			book := excelize.NewFile()
			fill := func(sheet string, row int, values ...any) {
				book.NewSheet(sheet)
				book.SetSheetRow(sheet, fmt.Sprint("A", row), &values)
			}
			fill("Customers", 1, "The Old Mill Bakery")
			fill("Customers", 3, "Cust. no", "Name", "Town", "Since", "Credit limit")
			for n := range 40 {
				since := time.Date(2019, 1, 1+n*9, 0, 0, 0, 0, time.UTC)
				fill("Customers", 4+n, fmt.Sprintf("%05d", 100+n), fmt.Sprintf("Inn %d", n), []string{"Brook", "Vale"}[n%2], since, float64(r.IntN(100_000))/100)
			}
			book.SetCellValue("Customers", "B44", "Total")
			book.SetCellValue("Customers", "E44", 12345.67)
			fill("Orders", 1, "Order", "Customer", "Ordered at", "Loaves", "Amount")
			for n := range 300 {
				at := time.Date(2026, 1, 1, 6, 0, 1, 0, time.UTC).Add(time.Duration(n) * 7 * time.Hour)
				fill("Orders", 2+n, fmt.Sprintf("O-%04d", n), fmt.Sprintf("%05d", 100+r.IntN(40)), at, 1+r.IntN(40), float64(r.IntN(20_000))/100)
			}
			var b bytes.Buffer
			book.DeleteSheet("Sheet1")
			book.Write(&b)
			put("book.xlsx", b.String())
			returns := "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<returns><sent by=\"B\">today</sent><items>"
			for n := range 50 {
				returns += fmt.Sprintf("<item no=\"%d\"><order>O-%04d</order><taken>%02d.02.2026</taken><value cur=\"X\">%d.%02d</value><why>caf\xe9</why></item>\n",
					n, r.IntN(300), 1+n%28, n, r.IntN(100))
			}
			put("returns.xml", returns+"</items></returns>")
			b.Reset()
			z := zip.NewWriter(&b)
			for month := range 3 {
				w, _ := z.Create(fmt.Sprintf("oven-2026-%02d.csv", month+1))
				fmt.Fprintln(w, "oven;at;celsius")
				for n := range 40 {
					fmt.Fprintf(w, "%d;2026-%02d-%02d 0%d:00;%d,5\n", n%2, month+1, 1+n/2, n%9, 180+r.IntN(50))
				}
			}
			z.Close()
			put("temperatures.zip", b.String())
		},
		keys:   "customers: cust_no; orders: order; returns: no; oven: oven at",
		refers: "orders.customer > customers; returns.order > orders",
	},
}

// TestDraft drafts models of files of several trades. It counts the keys and references that a person would have found,
// and those that a person would not have said; and each draft passes the check, a load loads all but what is not meant,
// and the star holds.
func TestDraft(t *testing.T) {
	said, found, right := 0, 0, 0
	for n, s := range scenarios {
		t.Run(s.name, func(t *testing.T) {
			dir := t.TempDir()
			s.write(func(name, text string) { startest.Write(t, dir, name, text) }, rand.New(rand.NewPCG(uint64(n), 5)))
			d := drafted(t, dir)
			var truth, proposed []string
			for _, k := range strings.Split(s.keys, "; ") {
				truth = append(truth, "key "+k)
			}
			for _, x := range strings.Split(s.refers, "; ") {
				truth = append(truth, "reference "+x)
			}
			for _, x := range d.Sources {
				key := strings.Join(x.Key, " ")
				if x.Effective != "" {
					key += " @" + x.Effective
				}
				proposed = append(proposed, fmt.Sprintf("key %s: %s", x.Name, key))
				for _, r := range x.Refers {
					proposed = append(proposed, fmt.Sprintf("reference %s.%s > %s", x.Name, strings.Join(r.Columns, " "), r.To))
				}
			}
			both := 0
			for _, x := range proposed {
				if slices.Contains(truth, x) {
					both++
				} else {
					t.Logf("not meant: %s", x)
				}
			}
			for _, x := range truth {
				if !slices.Contains(proposed, x) {
					t.Logf("not found: %s", x)
				}
			}
			said, found, right = said+len(truth), found+len(proposed), right+both
			t.Logf("precision %d of %d, recall %d of %d", both, len(proposed), both, len(truth))
			run, err := startest.Load(t, dir, load.Options{})
			if err != nil {
				t.Fatalf("%v\n%s", err, d.Text)
			}
			for _, step := range run.Steps {
				if step.State != ledger.Done || step.Figures.SetAside > 0 || step.Figures.Read > 0 && !step.Figures.Wrote() {
					t.Errorf("%s: %s, %+v", step.Name, step.Message, step.Figures.Reasons)
				}
			}
			if !startest.Proved(t, dir) {
				t.Error("the star is broken")
			}
		})
	}
	if right*100 < 95*found || right*100 < 95*said {
		t.Errorf("%d of %d proposals are right, and %d of %d were found", right, found, right, said)
	}
}

// TestExtend drafts models of some of the files of each trade, and then adds what they lack for the others: the model
// that was there stays as it was, line by line, what is new is what a draft of all files would have, and there is
// nothing more to add.
func TestExtend(t *testing.T) {
	for n, s := range scenarios {
		for seed := range uint64(1) {
			r := rand.New(rand.NewPCG(seed, uint64(n)))
			all, late := t.TempDir(), map[string]string{}
			s.write(func(name, text string) { late[name] = text }, rand.New(rand.NewPCG(uint64(n), 5)))
			names := slices.Sorted(maps.Keys(late))
			for k, name := range names {
				if k == 0 || r.IntN(2) == 0 {
					startest.Write(t, all, name, late[name])
					delete(late, name)
				}
			}
			before := drafted(t, all).Text
			by := []string{"", "# by hand\n"}[r.IntN(2)]
			before = strings.ReplaceAll(before, "\ndimensions:", "\n"+by+"dimensions: # all of them")
			startest.Write(t, all, "ironmonger.yaml", before)
			for name, text := range late {
				startest.Write(t, all, name, text)
			}
			after := extended(t, all)
			rest := strings.Split(after.Text, "\n")
			for line := range strings.Lines(before) {
				line = strings.TrimSuffix(line, "\n")
				at := slices.Index(rest, line)
				if strings.Contains(line, " read: ") && at < 0 { // which has got more files
					at = slices.IndexFunc(rest, func(s string) bool { return strings.HasPrefix(s, "    read: [") })
				}
				if at < 0 {
					t.Fatalf("%s: %q is not there any more, or not in its place\n%s", s.name, line, after.Text)
				}
				rest = rest[at+1:]
			}
			for _, x := range after.Sources {
				key := fmt.Sprintf("%s: %s", x.Name, strings.Join(x.Key, " "))
				if x.Effective != "" {
					key += " @" + x.Effective
				}
				if !strings.Contains(s.keys+";", key+";") {
					t.Logf("%s: not meant: %s", s.name, key)
				}
			}
			if again := extended(t, all); len(again.Added) > 0 || again.Text != after.Text {
				t.Errorf("%s: there is more to add: %v", s.name, again.Added)
			}
			if _, err := startest.Load(t, all, load.Options{}); err != nil || !startest.Proved(t, all) {
				t.Errorf("%s: %v\n%s", s.name, err, after.Text)
			}
		}
	}
}

// extended adds to the model in a folder what it lacks for the files there.
func extended(t *testing.T, dir string) *draft.Draft {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	text, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	tables, _, err := survey.Folder(context.Background(), root, filesIn(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	d, err := draft.Extend(context.Background(), root, tables, startest.Model(t, dir), string(text), draft.Options{History: true, Infer: true})
	if err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "ironmonger.yaml", d.Text)
	return d
}

// filesIn lists the files of a folder but its model.
func filesIn(t *testing.T, dir string) []string {
	var names []string
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if name, rerr := filepath.Rel(dir, path); err == nil && rerr == nil && !e.IsDir() && name != "ironmonger.yaml" {
			names = append(names, filepath.ToSlash(name))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return names
}

// drafted drafts a model of the files in a folder, and writes it there.
func drafted(t *testing.T, dir string) *draft.Draft {
	t.Helper()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	names := filesIn(t, dir)
	tables, skipped, err := survey.Folder(context.Background(), root, names)
	if err != nil || skipped != nil {
		t.Fatal(err, skipped)
	}
	d, err := draft.Make(context.Background(), root, tables, draft.Options{Warehouse: "star.db", History: true, Infer: true})
	if err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "ironmonger.yaml", d.Text)
	return d
}

// TestMarkDoubts drafts numbers whose marks can mean two things: which doubts are told of each column, and which are
// not.
func TestMarkDoubts(t *testing.T) {
	const whole, other = "its numbers would fit as whole numbers with a thousands mark as well", "its decimal mark is not that of other columns"
	for _, c := range []struct {
		first, second []string
		doubts        string
	}{
		{[]string{"1.234,56", "34,56"}, []string{"1.500", "12.250"}, "b " + whole + "; b " + other},
		{[]string{"34,5", "4,75"}, []string{"1.5", "12.25"}, "b " + other},
		{[]string{"1.25", "12.5"}, []string{"1.500", "12.250"}, "b " + whole},
		{[]string{"1,250", "12,500"}, []string{"7,5", "8,25"}, "a " + whole},
		{[]string{"1.234,56", "34,56"}, []string{"7", "8"}, ""},
		{[]string{"1.25", "12.5"}, []string{"0.1234", "5.1"}, ""},
	} {
		dir := t.TempDir()
		text := "no;a;b\n"
		for n := range 6 {
			text += fmt.Sprintf("%d;%s;%s\n", n, c.first[n%2], c.second[n%2])
		}
		startest.Write(t, dir, "weights.csv", text)
		d := drafted(t, dir)
		var doubts []string
		for line := range strings.Lines(d.Text) {
			if _, said, ok := strings.Cut(line, "# doubt: "); ok {
				name, said, _ := strings.Cut(strings.TrimSpace(said), ": ")
				said, _, _ = strings.Cut(said, ": as one")
				doubts = append(doubts, name+" "+said)
			}
		}
		if got := strings.Join(doubts, "; "); got != c.doubts || d.Doubts != len(doubts) {
			t.Errorf("%q: %d doubts %q, want %q", text, d.Doubts, got, c.doubts)
		}
	}
}

// TestOddDrafts drafts models of folders with odd names, headers and values: each draft passes the check, and no step
// of a load fails but for rows that would be set aside.
func TestOddDrafts(t *testing.T) {
	heads := []string{"date", "Date", "from", "select", "null", "key", "valid_from", "is_current", "load_run", "Größe", "a b", "a-b", "a_b", "1st", "%", "\"q\"",
		"price (EUR)", "id", "ID", "no", "name", "année", "x", "total", "member_key", "true", "case", "label", "sort_order", "номер", "very long name of a column that goes on and on and on", "'", "#", "entry"}
	files := []string{"date.csv", "1.csv", "a b.csv", "select.csv", "x[1].csv", "Über.csv", "year 2024.csv", "a/1.csv", "a/2.csv", "b-2024-01-01.csv", "b-2024-01-02.csv", "fact.csv", "load.csv", "o'brien.csv", "data.tar.csv", "x.txt", "{y}.csv"}
	values := [][]string{
		{"1", "2", "3"}, {"a", "b", ""}, {"2025-01-01", "2025-02-30", ""}, {"01.02.2025", "31.12.1999"}, {"1,5", "2"}, {"007", "8"}, {"yes", "no"}, {"9999-12-31", "0001-01-01"},
		{"1e5", "-3.25"}, {"12:30:00"}, {"2025-01-01T00:00:00Z", "2025-06-01T12:00:00+02:00"}, {"99999999999999999999999", "1"}, {"{\"a\": 1}", "[]"}, {"x\ny", "\"\""}, {"NULL", "5"},
		{" padded ", "tab\there"}, {"20250131", "20250228"}, {"1899-01-01"}, {"0.1234567890123456", "123456789012345678901234567890.12"}, {""}, {"Total", "7"},
	}
	for seed := range uint64(startest.Runs(25)) {
		r := rand.New(rand.NewPCG(seed, 51))
		dir := t.TempDir()
		story := ""
		for range 1 + r.IntN(4) {
			name := files[r.IntN(len(files))]
			var b strings.Builder
			w := csv.NewWriter(&b)
			w.Comma = []rune{',', ';', '\t'}[r.IntN(3)]
			width, kinds := 1+r.IntN(7), []int{}
			var head []string
			for range width {
				head = append(head, heads[r.IntN(len(heads))])
				kinds = append(kinds, r.IntN(len(values)))
			}
			if r.IntN(5) > 0 {
				w.Write(head)
			}
			for n := range r.IntN(40) {
				var row []string
				for k := range width {
					v := values[kinds[k]]
					row = append(row, v[r.IntN(len(v))])
				}
				if r.IntN(3) == 0 {
					row[0] = fmt.Sprint(n)
				}
				w.Write(row)
			}
			w.Flush()
			startest.Write(t, dir, name, b.String())
			story += name + "\n" + b.String()
		}
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, f := range files {
			if _, err := root.Stat(f); err == nil {
				names = append(names, f)
			}
		}
		tables, _, err := survey.Folder(context.Background(), root, names)
		if err != nil {
			t.Fatal(err)
		}
		d, err := draft.Make(context.Background(), root, tables, draft.Options{Warehouse: "star.db", History: true, Infer: true})
		root.Close()
		if err != nil {
			t.Fatal(err)
		}
		if len(d.Sources) == 0 {
			continue
		}
		startest.Write(t, dir, "ironmonger.yaml", d.Text)
		run, err := startest.Load(t, dir, load.Options{})
		for _, step := range run.Steps {
			if step.State == ledger.Failed && !strings.Contains(step.Message, "would be set aside") {
				t.Errorf("seed %d: %s: %s", seed, step.Name, step.Message)
				err = nil
			}
		}
		if err == nil && !startest.Proved(t, dir) {
			t.Errorf("seed %d: the star is broken", seed)
		}
		if err != nil && !errors.Is(err, load.ErrSteps) || t.Failed() {
			t.Fatalf("seed %d: %v\n%s\n%s", seed, err, d.Text, story)
		}
	}
}
