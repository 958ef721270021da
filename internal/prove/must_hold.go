package prove

import (
	"ironmonger/internal/assert"
	"ironmonger/internal/column"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// mustHold looks at what the model says must hold of a table.
func (p *proof) mustHold(t *warehouse.Table, list []*star.Must) []exam {
	var exams []exam
	for _, m := range list {
		judge, err := assert.New(m, t.Fields())
		if err != nil {
			panic(err) // the model has been checked
		}
		c := p.check(
			"must_hold",
			t.Name,
			judge.Says(),
			"correct the rows in their sources, or correct the condition in the model",
		)
		exams = append(exams, exam{c, func(b *column.Batch) {
			judge.Look(b, func(i int) { c.against(func() Example { return p.example(t, b, i, judge.Against()) }) })
		}, func() {
			in, err := p.inputs()
			if err != nil {
				c.against(func() Example { return Example{Row: t.Name, What: err.Error()} })
				return
			}
			said, err := judge.Verdict(p.ctx, in)
			if err != nil {
				said = err.Error()
			}
			if said != "" {
				c.against(func() Example { return Example{Row: t.Name, What: said} })
			}
		}})
	}
	return exams
}
