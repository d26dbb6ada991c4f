package ask

import (
	"context"
	"slices"
	"time"

	"yorvet.example/yorvet/internal/clock"
	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/estatefile"
	"yorvet.example/yorvet/internal/present"
	"yorvet.example/yorvet/internal/report"
	"yorvet.example/yorvet/internal/store"
)

// Report asks for a page for people who do not type.
type Report struct {
	For    string   // only a group, or the groups of an owner: an address; "": all
	Expect []string // with the expectations of files
	Run    string   // with a run of probes; "": the last one of this estate
}

// Collect gathers what a page shows.
func (q *Report) Collect(ctx context.Context, at *Place, d *Desk) (*report.Data, error) {
	c, err := q.Choice(ctx, at, d)
	if err != nil {
		return nil, err
	}
	if q.For != "" {
		a, err := d.Address("for", q.For)
		if err != nil {
			return nil, err
		}
		id, ok := d.Estate.Find(a)
		if !ok {
			return nil, Errorf("--for: %s is neither a group nor a person of the estate", a)
		}
		d.AboutOne(&c, id)
	}
	return report.NewMaker(d.Resolver).Collect(c), nil
}

// AboutOne has a page be about a group and what is nested in it, or about a person and the
// groups that they own or approve for.
func (d *Desk) AboutOne(c *report.Choice, id estate.ID) {
	c.Places, c.Of = false, d.Estate.Address(id).String()
	c.Groups = []estate.ID{}
	if d.Estate.IsGroup(id) {
		c.Groups = append(c.Groups, id)
		return
	}
	c.Person = id
	if name := d.Estate.Person(id).Name; name != "" {
		c.Of = name
	}
	for group := range estate.ID(d.Estate.Groups()) {
		approvers, _ := d.Resolver.Approvers(group)
		if slices.Contains(d.Resolver.Owners(group), id) || slices.Contains(approvers, id) {
			c.Groups = append(c.Groups, group)
		}
	}
}

// Choice gathers what a page shows apart from the estate.
func (q *Report) Choice(ctx context.Context, at *Place, d *Desk) (report.Choice, error) {
	c := report.Choice{Person: estate.None, Places: true, Day: d.Resolver.Today().String(),
		Made: clock.Now().UTC().Format(time.RFC3339)}
	if len(q.Expect) > 0 {
		var err error
		if c.Expectations, err = d.Expectations(ctx, q.Expect); err != nil {
			return c, err
		}
	}
	return c, q.runs(ctx, at, d, &c)
}

// mostRuns is how many earlier runs a page shows the arrivals of.
const mostRuns = 10

// runs adds the run that is named, or the last one of this estate, and when messages
// of the runs before it arrived. Where there is no store, nothing is added.
func (q *Report) runs(ctx context.Context, at *Place, d *Desk, c *report.Choice) error {
	st, named := at.Store, q.Run
	if st == nil {
		return nil
	}
	runs, err := st.Runs(ctx)
	if err != nil {
		return Network(err)
	}
	digest := ""
	if _, taken, err := estatefile.Take(ctx, at.Path); err == nil {
		digest = taken.Digest
	}
	runs = slices.DeleteFunc(runs, func(r store.Run) bool {
		return r.Kind != "probe" || r.Ended.IsZero() || named == "" && r.Estate != digest
	})
	i := slices.IndexFunc(runs, func(r store.Run) bool { return named == "" || r.Name == named })
	if i < 0 {
		if named != "" {
			return Errorf("there is no run %s of probes that has ended; yorvet runs list shows those that are kept", named)
		}
		return nil
	}
	chosen := runs[i]
	run, resolver, err := d.judged(ctx, st, chosen.Name)
	if err != nil {
		return err
	}
	c.Probe, c.ProbeBegan = present.NewProbe(resolver, run), chosen.Began.UTC().Format(time.RFC3339)
	for _, other := range runs[i+1 : min(len(runs), i+1+mostRuns)] {
		if other.Estate != chosen.Estate {
			continue
		}
		j, _, err := d.judged(ctx, st, other.Name)
		if err != nil {
			return err
		}
		one := report.Arrivals{Run: other.Name, Began: other.Began.UTC().Format(time.RFC3339)}
		for _, m := range j.Members {
			if m.Seconds > 0 {
				one.Seconds = append(one.Seconds, m.Seconds)
			}
		}
		slices.Sort(one.Seconds)
		c.Runs = append([]report.Arrivals{one}, c.Runs...)
	}
	return nil
}
