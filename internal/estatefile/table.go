package estatefile

import (
	"encoding/csv"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"yorvet.example/yorvet/internal/core/estate"
	"yorvet.example/yorvet/internal/core/nearest"
	"yorvet.example/yorvet/internal/localfile"
)

// table reads a table: RFC 4180, UTF-8, with a header row.
type table struct {
	l       *loader
	file    uint16
	header  []string
	batches <-chan *batch
	used    chan<- *batch
	batch   *batch // the one at hand
	next    int    // index in it of the row after the one at hand
	row     *row   // the one at hand
	passed  int    // cells of it before the one whose place was asked for last
	wider   int    // how many more bytes than characters they have
}

// readTable opens the table that a YAML file names at a place, and calls use
// with it. A table that cannot be opened is an error of the load.
func (l *loader) readTable(path string, at estate.Place, use func(*table)) {
	path = beside(l.files[at.File], path)
	f, err := l.open(path)
	if err != nil {
		var cause error = err
		if e := (*os.PathError)(nil); errors.As(err, &e) {
			cause = e.Err
		}
		l.fail(at, fmt.Sprintf("the table %s cannot be read: %v", strconv.Quote(l.called(path)), cause), "")
		return
	}
	defer f.Close()
	const ahead = 4
	full, used := make(chan *batch, ahead), make(chan *batch, ahead+1)
	for range ahead {
		used <- &batch{}
	}
	t := &table{l: l, file: l.addFile(path), batches: full, used: used, batch: &batch{}}
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer close(full)
		newRowReader(
			&localfile.Bounded{Ctx: l.ctx, R: f, Name: l.called(path), Most: maxTable},
			t.file,
		).send(
			full,
			used,
		)
	}()
	use(t)
	close(used)
	for range t.batches { // let the reader notice
	}
	<-done
}

// beside returns a path that is meant from the folder of a file.
func beside(file, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Dir(file), path)
}

// findAhead looks up the cells of some columns of the rows that are not read
// yet, so that it is done when they are.
func (t *table) findAhead(columns []int, findAll func([]string, []estate.ID)) {
	read, found := t.batches, make(chan *batch, cap(t.batches))
	t.batches = found
	go func() {
		defer close(found)
		for b := range read {
			b.find(columns, findAll)
			found <- b
		}
	}()
}

// mostColumns is how many columns a table may have.
const mostColumns = 10_000

// readHeader reads the header row. Columns that are none of known are errors,
// unless others are allowed. It returns the index of each known column, or -1.
func (t *table) readHeader(what string, known, required []string, others bool) (map[string]int, bool) {
	columns := map[string]int{}
	for _, name := range known {
		columns[name] = -1
	}
	if !t.read() {
		if t.header == nil {
			t.l.fail(
				t.start(),
				"the table has no header row, expected one such as "+strings.Join(known[:min(3, len(known))], ","),
				"",
			)
		}
		return columns, false
	}
	if len(t.row.cells) > mostColumns {
		t.l.fail(t.start(), fmt.Sprintf("the table has more than %d columns", mostColumns), "")
		return columns, false
	}
	for i := range t.row.cells {
		t.header = append(t.header, strings.Clone(t.text(i)))
	}
	ok := true
	met := map[string]bool{}
	for i, name := range t.header {
		twice := met[name]
		met[name] = true
		if twice {
			t.fail(i, "the column "+quote(name)+" stands here for the second time")
			ok = false
		}
		if _, isKnown := columns[name]; isKnown {
			columns[name] = i
		} else if now, old := estate.Former(name); old && slices.Contains(known, now) {
			t.l.fail(t.place(i), quote(name)+" is "+quote(now)+" now", "")
			ok = false
		} else if !others {
			text, near := "unknown column "+quote(name)+" in a table of "+what, nearest.Word(name, known)
			if near == "" {
				text += ", expected one of " + strings.Join(known, ", ")
			}
			t.l.fail(t.place(i), text, near)
			ok = false
		}
	}
	for _, name := range required {
		if columns[name] < 0 {
			t.l.fail(t.start(), "the column "+quote(name)+" is missing", nearest.Word(name, t.header))
			ok = false
		}
	}
	return columns, ok
}

// read goes to the next row that is well formed, and reports whether there is
// one. What is wrong with the others is an error of the load.
func (t *table) read() bool {
	for {
		for t.next == len(t.batch.rows) {
			t.used <- t.batch
			b, ok := <-t.batches
			if !ok {
				t.batch = &batch{}
				t.next = 0
				return false
			}
			t.batch, t.next = b, 0
		}
		t.row = &t.batch.rows[t.next]
		t.next++
		t.passed, t.wider = 0, 0
		if t.row.err == nil {
			return true
		}
		t.failRow()
	}
}

// failRow notes why the row at hand could not be read.
func (t *table) failRow() {
	var bad *csv.ParseError
	if !errors.As(t.row.err, &bad) {
		t.l.fail(t.row.cells[0].place, t.row.err.Error(), "")
		return
	}
	place := estate.Place{File: t.file, Line: uint32(bad.Line), Column: capColumn(bad.Column)}
	text := bad.Err.Error()
	switch {
	case errors.Is(bad.Err, csv.ErrFieldCount):
		place.Line, place.Column = t.row.cells[0].place.Line, 1
		text = fmt.Sprintf("the row has %d cells, expected %d as in the header", len(t.row.cells), len(t.header))
	case errors.Is(bad.Err, csv.ErrBareQuote):
		text = `a quote stands in a cell that is not in quotes, expected the whole cell in quotes and "" for the quote`
	case errors.Is(bad.Err, csv.ErrQuote):
		text = `a cell in quotes does not end here as it should, expected a quote, then a comma or the end of the row`
	}
	t.l.fail(place, text, "")
}

// text returns the content of a cell of the row. It keeps all that was read with
// it in memory; what stays is to be cloned.
func (t *table) text(column int) string {
	c := t.row.cells[column]
	return t.batch.text[c.from:c.to]
}

// start returns the beginning of the table.
func (t *table) start() estate.Place { return estate.Place{File: t.file, Line: 1, Column: 1} }

// place returns where a cell of the row begins; for one in quotes, where its
// content does.
func (t *table) place(column int) estate.Place {
	place := t.row.cells[column].place
	if column < t.passed {
		t.passed, t.wider = 0, 0
	}
	for ; t.passed < column; t.passed++ {
		text := t.text(t.passed)
		t.wider += len(text) - utf8.RuneCountInString(text)
	}
	at := int(place.Column) - t.wider
	if strings.ContainsAny(t.text(column), "\",\n\r") {
		at++
	}
	place.Column = capColumn(at)
	return place
}

func (t *table) fail(column int, text string) { t.l.fail(t.place(column), text, "") }

// cell returns a cell as an item that outlives the row.
func (t *table) cell(column int) item {
	return item{strings.Clone(t.text(column)), t.place(column)}
}

// cells returns the items of a cell that holds a list. Semicolons separate,
// except inside a quoted because or a quoted local part.
func (t *table) cells(column int) []item {
	text, place := strings.Clone(t.text(column)), t.place(column)
	var items []item
	passed, width := 0, 0 // of the text
	for _, part := range splitList(text) {
		trimmed := strings.Trim(text[part.from:part.to], " \t\r\n")
		if trimmed == "" {
			continue
		}
		begin := part.from + strings.Index(text[part.from:part.to], trimmed)
		width += widthInTable(text[passed:begin])
		passed = begin
		at := place
		at.Column = capColumn(int(at.Column) + width)
		items = append(items, item{trimmed, at})
	}
	return items
}

// widthInTable returns how many characters a part of a cell takes in its file: a
// quote stands there twice.
func widthInTable(s string) int { return utf8.RuneCountInString(s) + strings.Count(s, `"`) }

// span is a part of a text, in bytes.
type span struct{ from, to int }

// SplitList returns the items of a list that stands in one text, as in a cell of
// a table: semicolons separate, except inside a quoted because or local part.
func SplitList(text string) []string {
	list := []string{}
	for _, part := range splitList(text) {
		if item := strings.TrimSpace(text[part.from:part.to]); item != "" {
			list = append(list, item)
		}
	}
	return list
}

// splitList finds the items of a list in a cell.
func splitList(text string) []span {
	var parts []span
	from := 0
	quoted := false
	for i := range len(text) {
		switch {
		case quoted:
			quoted = text[i] != '"' || isEscaped(text, i)
		case text[i] == '"':
			before := strings.TrimRight(text[from:i], " \t\r\n")
			opensWord := i == 0 || strings.IndexByte(" \t\r\n;(", text[i-1]) >= 0
			quoted = strings.HasSuffix(before, "because") || opensWord
		case text[i] == ';':
			parts = append(parts, span{from, i})
			from = i + 1
		}
	}
	return append(parts, span{from, len(text)})
}

// isEscaped reports whether an odd number of backslashes stands before i.
func isEscaped(text string, i int) bool {
	n := 0
	for n < i && text[i-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

// validText reports whether all cells of the row are UTF-8; the first that is
// not is an error.
func (t *table) validText() bool {
	for i := range t.row.cells {
		cell := t.text(i)
		if !utf8.ValidString(cell) {
			t.fail(i, "this is not UTF-8, expected text in UTF-8")
			return false
		}
	}
	return true
}

// readGroupTable reads groups from a table.
func (l *loader) readGroupTable(t *table) {
	var known []string
	for _, field := range groupFields {
		known = append(known, field.Name)
	}
	known = append(known, "members")
	for _, action := range actionWords {
		known = append(known, "access."+action)
	}
	columns, ok := t.readHeader("groups", known, []string{"address"}, false)
	if !ok {
		return
	}
	for t.read() {
		if !t.validText() {
			continue
		}
		var s groupSpec
		for _, field := range groupFields {
			column := columns[field.Name]
			if column < 0 || t.text(column) == "" {
				continue
			}
			s.give(field, t.place(column))
			if !field.Form.IsList() {
				field.set(l, &s, t.cell(column))
				continue
			}
			for _, it := range t.cells(column) {
				field.set(l, &s, it)
			}
		}
		if column := columns["members"]; column >= 0 {
			for _, it := range t.cells(column) {
				s.addMemberText(l, it)
			}
		}
		for i, action := range actionWords {
			if column := columns["access."+action]; column >= 0 && t.text(column) != "" {
				s.setAccess(l, estate.Action(i), t.cell(column))
			}
		}
		s.finish(l, t.place(0))
	}
}

// addMemberText adds a member of a table's cell: an address, everyone, or where
// and a filter.
func (s *groupSpec) addMemberText(l *loader, it item) {
	filter, isRule := strings.CutPrefix(it.text, "where ")
	if it.text != "everyone" && !isRule {
		if a, ok := l.parseAddress(it.text, it.place); ok {
			s.relations = append(s.relations, relation{role: "member", address: a, place: it.place})
		}
		return
	}
	rule := estate.MemberRule{Place: it.place}
	if isRule {
		var ok bool
		if rule.Filter, ok = l.parseFilter(filter, it); !ok {
			return
		}
	}
	s.relations = append(s.relations, relation{role: "member", rule: &rule, place: it.place})
}

// readPeopleTable reads people from a table. Columns that are not a field of a
// person are attributes.
func (l *loader) readPeopleTable(t *table) {
	columns, ok := t.readHeader("people", personColumns(), []string{"address"}, true)
	if !ok {
		return
	}
	attributes := make([]string, len(t.header)) // names by column, "" for a field
	for i, name := range t.header {
		if _, isField := columns[name]; isField {
			continue
		}
		if name == "attributes" {
			t.fail(i, "a table has no column attributes, expected a column for each attribute")
			return
		}
		if !l.checkAttributeName(name, t.place(i)) {
			return
		}
		attributes[i] = name
	}
	var s personSpec
	for t.read() {
		if t.validText() {
			s = personSpec{attributes: s.attributes[:0]}
			l.readPersonRow(t, &s, columns, attributes)
		}
	}
}

func (l *loader) readPersonRow(t *table, s *personSpec, columns map[string]int, attributes []string) {
	given := func(name string) (int, bool) {
		column := columns[name]
		return column, column >= 0 && t.text(column) != ""
	}
	if column, ok := given("address"); ok {
		s.setAddress(l, t.cell(column))
	}
	settings := estate.PersonSettings()
	for i := range settings {
		if column, ok := given(settings[i].Name); ok {
			s.set(l, &settings[i], t.cell(column))
		}
	}
	if column, ok := given("also"); ok {
		for _, it := range t.cells(column) {
			s.addAlso(l, it)
		}
	}
	for i := range t.row.cells {
		value := t.text(i)
		name := attributes[i]
		switch {
		case name == "" || value == "":
		case strings.IndexByte(value, ';') < 0:
			s.attributes = append(s.attributes, estate.Attribute{Name: name, Value: value})
		default:
			for _, it := range t.cells(i) {
				s.attributes = append(s.attributes, estate.Attribute{Name: name, Value: it.text})
			}
		}
	}
	if s.person.Place == (estate.Place{}) {
		s.finish(l, t.place(0))
	} else {
		s.finish(l, s.person.Place)
	}
}

// readMembershipTable reads memberships from a table. There may be millions: a
// row that names its group and member as the estate does is not parsed again.
func (l *loader) readMembershipTable(t *table) {
	columns, ok := t.readHeader("memberships", membershipFields, []string{"group", "address"}, false)
	if !ok {
		return
	}
	group, member := columns["group"], columns["address"]
	options := t.options(columns)
	named := []int{group, member}
	t.batch.find(named, l.b.FindAll)
	t.findAhead(named, l.b.FindAll)
	for t.read() {
		id, place := t.row.ids[0], t.row.cells[member].place
		if id == estate.None || !l.b.IsGroup(id) {
			var ok bool
			if id, ok = l.findGroup(t.cell(group)); !ok {
				continue
			}
		}
		listed := t.row.ids[1]
		if listed == estate.None {
			place = t.place(member)
			a, ok := l.parseAddress(strings.Clone(t.text(member)), place)
			if !ok {
				continue
			}
			listed = l.b.Refer(a, id, "member", place)
		}
		l.b.AddEntry(id, listed, t.membership(options), place)
	}
}

// option is a column of a table of memberships apart from group and address.
type option struct {
	estate.PartSetting[estate.Membership]
	column int
}

// options returns the options that the table has columns for.
func (t *table) options(columns map[string]int) []option {
	var list []option
	for _, s := range estate.MembershipSettings() {
		if columns[s.Name] >= 0 {
			list = append(list, option{s, columns[s.Name]})
		}
	}
	return list
}

// membership reads the options of a row.
func (t *table) membership(options []option) estate.Membership {
	var m estate.Membership
	for _, o := range options {
		if text := t.text(o.column); text != "" {
			if err := o.Set(&m, text); err != nil {
				t.l.failValue(err, o.Name, item{text, t.place(o.column)})
			}
		}
	}
	return m
}
