package inside

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// aggregate is a column of groups: what is worked out of their rows, and what is made of that.
func (r *shaper) aggregate(name string, a star.Aggregate, fields []column.Field) (of []named, x expr.SQL, err error) {
	if a.Column == "" {
		return []named{{name, "count(*)"}}, expr.SQL{Value: name}, nil
	}
	f := fields[column.Find(fields, a.Column)]
	value := quote(said + f.Name)
	sums := column.Type{Kind: column.Decimal, Precision: mostDecimal, Scale: f.Type.Scale}
	if f.Type.Kind == column.Double && a.Function != "count" {
		return nil, x, refuse("%s of a double", a.Function)
	}
	switch a.Function {
	case "count":
		return []named{{name, "count(" + value + ")"}}, expr.SQL{Value: name}, nil
	case "sum":
		return []named{{name, r.sum(value, f.Type, "")}}, r.Fitting(expr.SQL{Value: name}, sums, a.Type), nil
	case "avg":
		of = []named{{name, r.sum(value, f.Type, "")}, {name + "_n", "count(" + value + ")"}}
		sum := r.Fitting(expr.SQL{Value: name}, sums, a.Sum)
		integer := column.Type{Kind: column.Integer}
		p, err := expr.Compile(fmt.Sprintf("cast(a / nullif(b, 0) as decimal(%d,%d))", a.Type.Precision, a.Type.Scale),
			[]column.Field{{Name: "a", Type: a.Sum}, {Name: "b", Type: integer}})
		if err != nil {
			return nil, x, err
		}
		x, err = p.SQL(r.engine, []expr.SQL{sum, {Value: r.Operand(name+"_n", integer)}})
		return of, x, err
	case "min", "max":
		if f.Type.Kind == column.Boolean {
			value, a.Function = "("+value+")", map[string]string{"min": "bool_and", "max": "bool_or"}[a.Function]
		}
		return []named{{name, a.Function + "(" + value + ")"}}, expr.SQL{Value: name}, nil
	case star.OnlyValue:
		of = []named{{name, "min(" + value + ")"}, {name + "_n", "count(" + value + ")"}}
		return of, expr.SQL{Value: name, Clean: name + "_n <= 1"}, nil
	case "list":
		p, err := expr.Compile("nullif(trim(a), '')", []column.Field{{Name: "a", Type: f.Type}})
		if err != nil {
			return nil, x, err
		}
		one, err := p.SQL(r.engine, []expr.SQL{{Value: r.Operand(value, f.Type)}})
		const divided = "count(*) FILTER (WHERE position('%s' in %s) > 0)"
		of = []named{
			{name, r.list(r.Stored(one, f.Type), star.ListSeparator)},
			{name + "_n", fmt.Sprintf(divided, star.ListSeparator, value)},
		}
		return of, expr.SQL{Value: name, Clean: name + "_n = 0"}, err
	case "latest", "earliest":
		return []named{{name, r.outermost(value, quote(said+a.By), a.Function == "latest")}}, expr.SQL{Value: name}, nil
	}
	return nil, x, refuse("the aggregate %s", a.Function)
}
