package present

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/hazard"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/core/resolve"
)

// Matrix shows all groups at a glance.
type Matrix struct {
	Groups []MatrixRow `json:"groups"`
	// Totals are of all groups that were looked at, by column: also where Top keeps some.
	Totals map[string]Spread `json:"totals"`

	looked  int    // how many groups
	hazards int    // how many of them have any
	forged  int    // how many of them admit forged mail
	domain  string // the first of the estate: text leaves it out
}

// A MatrixRow is one group. Counts that are 0 are left out of the maps.
type MatrixRow struct {
	Group    string         `json:"group"`
	Kind     string         `json:"kind"`
	Outside  string         `json:"outside"`
	Inside   string         `json:"inside"`
	Forged   string         `json:"forged"`
	Known    int            `json:"forgedKnown"` // addresses of the estate as which a forged message is admitted
	Posters  map[string]int `json:"posters"`
	Receives map[string]int `json:"receives"`
	Invited  int            `json:"invited"` // people who get a calendar request in their inbox
	SendsAs  int            `json:"sendsAs"`
	Approves int            `json:"approves"`
	Hazards  int            `json:"hazards"` // without those that are accepted
}

// NewMatrix reports all groups, in the order of the estate.
func NewMatrix(r *resolve.Resolver) *Matrix {
	n := newNamer(r)
	a := &Matrix{Groups: []MatrixRow{}, domain: "@" + n.e.Settings().Domains[0].Name}
	for id, overview := range hazard.Overviews(r) {
		a.Groups = append(a.Groups, n.row(estate.ID(id), overview))
	}
	a.Total()
	return a
}

// Only keeps some groups, in the order of the estate.
func (a *Matrix) Only(groups []estate.ID) {
	rows := []MatrixRow{}
	for _, id := range groups {
		rows = append(rows, a.Groups[id])
	}
	a.Groups = rows
}

// row is a group at a glance, in words.
func (n namer) row(id estate.ID, o hazard.Overview) MatrixRow {
	row := MatrixRow{
		Group: n.address(id), Kind: n.e.Group(id).Kind.String(),
		Outside: o.Outside.String(), Inside: o.Inside.String(), Forged: o.Forged.String(),
		Posters: map[string]int{}, Receives: map[string]int{}, SendsAs: o.SendsAs, Approves: o.Approves, Hazards: o.Hazards,
		Known: o.ForgedKnown, Invited: o.Invited,
	}
	for verdict, count := range o.Posters {
		if count > 0 {
			row.Posters[estate.Verdict(verdict).String()] = count
		}
	}
	for outcome, count := range o.Receives {
		if count > 0 {
			row.Receives[resolve.Outcome(outcome).String()] = count
		}
	}
	return row
}

// column is a column of the matrix: a word or a number of each row.
type column struct {
	name   string
	word   func(*MatrixRow) string
	number func(*MatrixRow) int
	words  []string // that it can hold
}

// columns are those that a condition or an order may name, and those of CSV.
var columns = func() []column {
	list := []column{
		{name: "group", word: func(r *MatrixRow) string { return r.Group }},
		{name: "kind", word: func(r *MatrixRow) string { return r.Kind }, words: estate.KindWords()},
		{name: "outside", word: func(r *MatrixRow) string { return r.Outside }, words: estate.VerdictWords()},
		{name: "inside", word: func(r *MatrixRow) string { return r.Inside }, words: estate.VerdictWords()},
		{name: "forged", word: func(r *MatrixRow) string { return r.Forged }, words: estate.VerdictWords()},
	}
	list = append(list,
		column{name: "post", number: func(r *MatrixRow) int { return r.Posters["admit"] }},
		column{name: "held", number: func(r *MatrixRow) int { return r.Posters["hold"] }},
		column{name: "refused", number: func(r *MatrixRow) int { return r.Posters["refuse"] + r.Posters["drop"] }},
		column{name: "get", number: func(r *MatrixRow) int {
			return r.Receives["inbox"] + r.Receives["digest"] + r.Receives["archive"]
		}},
		column{name: "miss", number: func(r *MatrixRow) int { return r.Receives["nothing"] + r.Receives["undeliverable"] }})
	for _, word := range resolve.OutcomeWords() {
		list = append(list, column{name: word, number: func(r *MatrixRow) int { return r.Receives[word] }})
	}
	return append(list,
		column{name: "forged-known", number: func(r *MatrixRow) int { return r.Known }},
		column{name: "invited", number: func(r *MatrixRow) int { return r.Invited }},
		column{name: "sends-as", number: func(r *MatrixRow) int { return r.SendsAs }},
		column{name: "approvers", number: func(r *MatrixRow) int { return r.Approves }},
		column{name: "hazards", number: func(r *MatrixRow) int { return r.Hazards }})
}()

func findColumn(name string) (column, error) {
	var known []string
	for _, c := range columns {
		if c.name == name {
			return c, nil
		}
		known = append(known, c.name)
	}
	if near := nearest.Word(name, known); near != "" {
		return column{}, fmt.Errorf("unknown column %q; did you mean %q?", name, near)
	}
	return column{}, fmt.Errorf("unknown column %q, expected one of %s", name, strings.Join(known, ", "))
}

// comparison is a part of a condition: a column, perhaps a sign, and a value.
var comparison = regexp.MustCompile(`^([a-z-]+)(?:\s*([=<>]+)\s*|\s+)(\S+)$`)

// Where keeps the rows that fulfil a condition, such as "outside=admit and
// stopped>0": comparisons joined by "and", each of a column with a word it may
// hold, or with a number by =, <, >, <= or >=. A number alone means "=".
func (a *Matrix) Where(condition string) error {
	for part := range strings.SplitSeq(condition, " and ") {
		words := comparison.FindStringSubmatch(strings.TrimSpace(part))
		if words == nil {
			return fmt.Errorf("%q is no condition, expected one such as outside=admit or miss>0", strings.TrimSpace(part))
		}
		c, err := findColumn(words[1])
		if err != nil {
			return err
		}
		keep, err := c.compare(cmp.Or(words[2], "="), words[3])
		if err != nil {
			return err
		}
		a.Groups = slices.DeleteFunc(a.Groups, func(r MatrixRow) bool { return !keep(&r) })
	}
	return nil
}

// compare returns whether a row fulfils a comparison with this column.
func (c column) compare(operator, operand string) (func(*MatrixRow) bool, error) {
	if c.word != nil {
		if operator != "=" {
			example := operand
			if c.words != nil {
				example = c.words[0]
			}
			return nil, fmt.Errorf("%s holds words; try %s=%s", c.name, c.name, example)
		}
		if c.words != nil && !slices.Contains(c.words, operand) {
			return nil, fmt.Errorf("%s holds %s, not %q", c.name, strings.Join(c.words, ", "), operand)
		}
		return func(r *MatrixRow) bool { return strings.EqualFold(c.word(r), operand) }, nil
	}
	number, err := strconv.Atoi(operand)
	if err != nil {
		return nil, fmt.Errorf("%s holds numbers, not %q", c.name, operand)
	}
	signs := map[string][]int{"=": {0}, "<": {-1}, ">": {1}, "<=": {-1, 0}, ">=": {0, 1}}[operator]
	if signs == nil {
		return nil, fmt.Errorf("unknown comparison %q, expected =, <, >, <= or >=", operator)
	}
	return func(r *MatrixRow) bool { return slices.Contains(signs, cmp.Compare(c.number(r), number)) }, nil
}

// Sort orders the rows by a column: words upwards, numbers downwards; with a
// hyphen in front, the other way round.
func (a *Matrix) Sort(by string) error {
	name, reverse := strings.CutPrefix(by, "-")
	c, err := findColumn(name)
	if err != nil {
		return err
	}
	slices.SortStableFunc(a.Groups, func(x, y MatrixRow) int {
		order := 0
		if c.word != nil {
			order = strings.Compare(c.word(&x), c.word(&y))
		} else {
			order = cmp.Compare(c.number(&y), c.number(&x))
		}
		if reverse {
			return -order
		}
		return order
	})
	return nil
}

func (a *Matrix) writeText(p *Page) {
	p.Line(2, Span{Strong, a.answer()})
	if len(a.Groups) == 0 {
		return
	}
	p.Line(2, Span{Faint, "Names without @ end in " + a.domain + "."})
	p.Gap()
	const most = 30
	shown := a.Groups[:p.shown(len(a.Groups), most)]
	p.Table(a.fitting(p, shown))
	p.Gap()
	p.more(len(a.Groups)-len(shown), "more")
	p.Line(
		0,
		Span{
			Faint,
			"forged: the worst, and as how many known addresses it gets in. get: inbox, digest or archive; miss: " +
				"nothing or undeliverable, if nested groups admit. All counts are in --json and --format csv; a wide " +
				"page has more.",
		},
	)
}

// answer is the first line: true by itself.
func (a *Matrix) answer() string {
	if a.looked == 0 {
		return "No group to show"
	}
	line := count(a.looked, "group", "groups") + ": " + strconv.Itoa(a.hazards) + " with hazards"
	if a.forged > 0 {
		line += ", " + strconv.Itoa(a.forged) + " that admit forged mail"
	}
	if get := a.Totals["get"]; a.looked > 1 {
		line += "; get: median " + thousands(get.Median) + ", 95 % at most " + thousands(get.P95) + ", most " +
			thousands(get.Most) + ", in all " + thousands(get.Sum)
	}
	return line
}

// fitting returns the rows with their head, with as many columns as a page has room
// for.
func (a *Matrix) fitting(p *Page, groups []MatrixRow) [][]Span {
	const most = 3
	for rank := most; ; rank-- {
		head := []Span{}
		for _, c := range a.cells(MatrixRow{}) {
			if c.rank <= rank {
				head = append(head, Span{Faint, c.head})
			}
		}
		rows := [][]Span{head}
		for _, g := range groups {
			var row []Span
			for _, c := range a.cells(g) {
				if c.rank <= rank {
					row = append(row, c.Span)
				}
			}
			rows = append(rows, row)
		}
		if rank == 0 || tableWidth(rows) <= p.options.Width {
			return rows
		}
	}
}

// matrixCell is a cell of a row, with the head of its column.
type matrixCell struct {
	head string
	rank int // the higher, the sooner it is left out where a page has no room
	Span
}

func (a *Matrix) cells(g MatrixRow) []matrixCell {
	return []matrixCell{
		{"group", 0, Span{Plain, strings.TrimSuffix(g.Group, a.domain)}},
		{"kind", 3, Span{Plain, g.Kind}},
		{"outside", 0, verdictCell(g.Outside)},
		{"inside", 0, verdictCell(g.Inside)},
		{"forged", 0, forgedCell(g)},
		{"post", 1, number(g.Posters["admit"], Plain)},
		{"held", 2, number(g.Posters["hold"], Doubtful)},
		{"refused", 3, number(g.Posters["refuse"]+g.Posters["drop"], Plain)},
		{"get", 0, number(g.Receives["inbox"]+g.Receives["digest"]+g.Receives["archive"], Plain)},
		{"miss", 0, number(g.Receives["nothing"]+g.Receives["undeliverable"], Bad)},
		{"invited", 3, number(g.Invited, Plain)},
		{"sends-as", 3, number(g.SendsAs, Plain)},
		{"approvers", 3, number(g.Approves, Plain)},
		{"hazards", 0, number(g.Hazards, Bad)},
	}
}

func verdictCell(verdict string) Span { return Span{verdictStyle(verdict), verdict} }

// forgedCell is the worst that a forged message does: as how many known addresses it
// is admitted, or else what becomes of it from an unknown one.
func forgedCell(g MatrixRow) Span {
	switch {
	case g.Known > 0:
		return Span{Bad, "ADMIT " + strconv.Itoa(g.Known)}
	case g.Forged == "admit":
		return Span{Bad, "ADMIT"}
	}
	return Span{Plain, g.Forged}
}

// number is a count in a cell; 0 is a dash.
func number(n int, style Style) Span {
	if n == 0 {
		return Span{Faint, "-"}
	}
	return Span{style, strconv.Itoa(n)}
}

func (a *Matrix) table(t *table) {
	var header []string
	for _, c := range columns {
		header = append(header, c.name)
	}
	t.head(header...)
	for i := range a.Groups {
		row := make([]any, len(columns))
		for j, c := range columns {
			if c.word != nil {
				row[j] = c.word(&a.Groups[i])
			} else {
				row[j] = c.number(&a.Groups[i])
			}
		}
		t.row(row...)
	}
}
