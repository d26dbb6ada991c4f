package source

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"yorvet.example/yorvet/internal/directory"
	"yorvet.example/yorvet/internal/directory/draft"
	"yorvet.example/yorvet/internal/directory/records"
	"yorvet.example/yorvet/internal/directory/table"
)

// mostSampled is how many records of a source are looked at for a map.
const mostSampled = 20_000

// DraftMap looks at a table, JSON, or a sheet of a workbook, "" being its first, and drafts
// a map for it.
func DraftMap(ctx context.Context, name, sheet string) (string, error) {
	s, err := find(ctx, name)
	if err != nil {
		return "", err
	}
	if sheet != "" && s.format != "xlsx" {
		return "", fmt.Errorf("%s: only a workbook has sheets", name)
	}
	var lists []*draft.List
	var sheets []string
	switch s.format {
	case "csv", "xlsx":
		s.m = &directory.Map{Sheet: sheet}
		lists, sheets, err = s.lookAtTable(ctx)
		if bad, ok := errors.AsType[*table.Undecodable](err); ok && bad.Guess != "" {
			s.m.Encoding = bad.Guess
			lists, sheets, err = s.lookAtTable(ctx)
		}
	case "json", "scim":
		lists, err = s.lookAtJSON(ctx)
	default:
		return "", fmt.Errorf("%s: a map is drafted for a table, a workbook or JSON, not for %s", name, s.format)
	}
	if err != nil {
		return "", err
	}
	encoding := ""
	if s.m != nil {
		encoding = s.m.Encoding
	}
	text, err := draft.Map(name, encoding, sheet, lists)
	if err != nil && len(sheets) > 1 {
		err = fmt.Errorf("%w; its sheets are %s: --sheet chooses one", err, strings.Join(sheets, ", "))
	}
	return text, err
}

// lookAtTable looks at the rows of a table, and at which sheets a workbook has.
func (s *source) lookAtTable(ctx context.Context) (lists []*draft.List, sheets []string, err error) {
	l := &draft.List{}
	err = s.withTable(ctx, s.where, func(t *table.Reader) error {
		sheets = t.Sheets
		return t.Each(func(e *directory.Entry) {
			if l.Records < mostSampled {
				l.Look(e)
			}
		})
	})
	return []*draft.List{l}, sheets, err
}

// lookAtJSON looks at the records of every list of a document.
func (s *source) lookAtJSON(ctx context.Context) ([]*draft.List, error) {
	f, err := s.open(ctx, s.where)
	if err != nil {
		return nil, err
	}
	paths, err := records.Lists(f, s.where)
	f.Close()
	if err != nil {
		return nil, err
	}
	if f, err = s.open(ctx, s.where); err != nil {
		return nil, err
	}
	defer f.Close()
	byPath := map[string]*draft.List{}
	var lists []*draft.List
	for _, path := range paths {
		byPath[path] = &draft.List{Path: path}
		lists = append(lists, byPath[path])
	}
	err = records.Read(f, s.where, paths, func(e *directory.Entry) {
		if l := byPath[e.Records]; l.Records < mostSampled {
			l.Look(e)
		}
	})
	return lists, err
}
