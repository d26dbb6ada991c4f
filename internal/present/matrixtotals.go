package present

import (
	"fmt"
	"slices"
)

// A Spread is how a count is spread over groups.
type Spread struct {
	Sum    int `json:"sum"`
	Median int `json:"median"` // half of the groups have no more
	P95    int `json:"p95"`    // 95 of 100 groups have no more
	Most   int `json:"most"`
}

// Total works the totals out, of the rows that are there.
func (a *Matrix) Total() {
	a.Totals = map[string]Spread{}
	a.looked, a.hazards, a.forged = len(a.Groups), 0, 0
	for i := range a.Groups {
		if a.Groups[i].Hazards > 0 {
			a.hazards++
		}
		if a.Groups[i].Known > 0 || a.Groups[i].Forged == "admit" {
			a.forged++
		}
	}
	for _, c := range columns {
		if c.number != nil {
			a.Totals[c.name] = a.spread(c)
		}
	}
}

// spread returns how the counts of a column are spread.
func (a *Matrix) spread(c column) Spread {
	var s Spread
	if len(a.Groups) == 0 {
		return s
	}
	numbers := make([]int, len(a.Groups))
	for i := range a.Groups {
		numbers[i] = c.number(&a.Groups[i])
		s.Sum += numbers[i]
	}
	slices.Sort(numbers)
	// The smallest number that so many in a hundred do not exceed (nearest rank).
	rank := func(percent int) int { return numbers[(len(numbers)*percent+99)/100-1] }
	s.Median, s.P95, s.Most = rank(50), rank(95), numbers[len(numbers)-1]
	return s
}

// Top keeps the first rows.
func (a *Matrix) Top(rows int) error {
	if rows < 1 {
		return fmt.Errorf("expected a number of groups from 1, not %d", rows)
	}
	a.Groups = a.Groups[:min(rows, len(a.Groups))]
	return nil
}
