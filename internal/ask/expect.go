package ask

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/expect"
	"yorvet.example/yorvet/internal/history"
	"yorvet.example/yorvet/internal/localfile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/store"
)

// Expect asks whether what files say of an estate holds.
type Expect struct {
	Files []string
}

// Ask looks whether expectations hold.
func (q *Expect) Ask(ctx context.Context, at *Place) (*Result, error) {
	began := clock.Now()
	d, err := Open(ctx, at)
	if err != nil {
		return nil, err
	}
	a, err := d.Expectations(ctx, q.Files)
	if err != nil {
		return nil, err
	}
	return &Result{Answer: a, Wrong: a.Broken() > 0,
		Kept: func() *history.Outcome { return at.expectations(began, a) }}, nil
}

// Expectations tells whether what files say holds.
func (d *Desk) Expectations(ctx context.Context, files []string) (*present.Expectations, error) {
	lists, err := d.expectations(ctx, files)
	if err != nil {
		return nil, err
	}
	a := &present.Expectations{}
	for i, name := range files {
		a.Add(d.Resolver, name, lists[i])
	}
	return a, nil
}

// expectations reads files of expectations.
func (d *Desk) expectations(ctx context.Context, names []string) ([][]expect.Expectation, error) {
	lists := make([][]expect.Expectation, len(names))
	var problems []string
	for i, name := range names {
		text, err := localfile.Read(ctx, name, mostExpectations)
		if err != nil {
			return nil, Errorf("the expectations: %w", err)
		}
		list, errs := expect.Parse(string(text))
		lists[i] = list
		for _, e := range append(errs, expect.Check(d.Estate, list)...) {
			problems = append(problems, name+":"+e.Error()+caret(e))
		}
		if len(list)+len(errs) == 0 {
			problems = append(problems, name+":1:1: there is no expectation in this file")
		}
	}
	if len(problems) > 0 {
		return nil, fmt.Errorf("%s", strings.Join(problems, "\n"))
	}
	return lists, nil
}

// caret shows the line of an error with a caret under the spot.
func caret(e *expect.Error) string {
	if e.Source == "" || utf8.RuneCountInString(e.Source) > 200 {
		return ""
	}
	return "\n    " + strings.ReplaceAll(e.Source, "\t", " ") + "\n    " + strings.Repeat(" ", e.Column-1) + "^"
}

// mostExpectations is the size in bytes of a file of expectations that is read.
const mostExpectations = 32 << 20

// expectations returns what is kept of expectations.
func (at *Place) expectations(began time.Time, a *present.Expectations) *history.Outcome {
	o := at.outcome("expect", began, a)
	seen := map[string]int{}
	for e := range a.Brief() {
		if e.Holds {
			o.Good++
			continue
		}
		o.Bad++
		name := e.Group + "\n" + e.Text
		seen[name]++
		says := e.Text + ": broken"
		if len(e.Counterexamples) > 0 {
			says += ", " + breaks(e.Counterexamples[0])
		}
		base := store.Fact{Name: nameOf(name, strconv.Itoa(seen[name])), Group: strings.ToLower(e.Group), Says: says}
		o.Facts = append(o.Facts, base)
		// One that is broken by more than before is worse, which is something new.
		for _, n := range worse {
			if e.Breaking < n {
				break
			}
			more := base
			more.Name = nameOf(name, strconv.Itoa(seen[name]), "by", strconv.Itoa(n))
			more.Says = fmt.Sprintf("%s: broken by %d or more", e.Text, n)
			o.Facts = append(o.Facts, more)
		}
	}
	o.Wrong = o.Bad > 0
	return o
}

// worse are the numbers of those who break an expectation from which on that is worse.
var worse = []int{2, 3, 5, 8, 12, 20, 35, 60, 100, 200, 500, 1000, 2000, 5000, 10_000}

// breaks says who breaks an expectation, and what is the case instead.
func breaks(c present.Counterexample) string {
	who := map[string]string{"outside stranger": "anyone outside", "inside stranger": "an unknown inside address",
		"forged stranger": "forged mail"}[c.Who]
	return strings.TrimSuffix(strings.TrimPrefix(cmp.Or(who, c.Address)+": "+c.Says, ": "), ": ")
}
