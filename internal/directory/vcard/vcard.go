// Package vcard reads people and groups from cards (RFC 6350). A group is a card
// of KIND:group, whose members are named by UID or mailto.
package vcard

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/emersion/go-vcard"

	"yorvet.example/yorvet/internal/directory"
)

// mostCard is the size of a card in bytes that is read.
const mostCard = 4 << 20

// Read calls visit with every card as an entry: its properties, and its UID as
// the identifier. A broken card is an error with its line.
func Read(r io.Reader, name string, visit func(*directory.Entry)) error {
	scanner := bufio.NewScanner(r)
	scanner.Buffer(nil, mostCard)
	var card bytes.Buffer
	line, began := 0, 0
	for scanner.Scan() {
		line++
		text := bytes.TrimPrefix(scanner.Bytes(), []byte("\ufeff"))
		if card.Len() == 0 {
			if len(bytes.TrimSpace(text)) == 0 {
				continue
			}
			if !bytes.EqualFold(bytes.TrimSpace(text), []byte("BEGIN:VCARD")) {
				return fmt.Errorf("%s:%d:1: expected BEGIN:VCARD", name, line)
			}
			began = line
		}
		card.Write(bytes.TrimRight(text, "\r"))
		card.WriteString("\r\n")
		if card.Len() > mostCard {
			return fmt.Errorf("%s:%d:1: the card is larger than %d MiB", name, began, mostCard>>20)
		}
		if bytes.EqualFold(bytes.TrimSpace(text), []byte("END:VCARD")) {
			if err := readCard(&card, began, visit); err != nil {
				return fmt.Errorf("%s:%d:1: what begins here is no card (RFC 6350)", name, began)
			}
			card.Reset()
		}
	}
	if err := scanner.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("the line is longer than %d MiB", mostCard>>20)
		}
		return fmt.Errorf("%s:%d:1: %w", name, line+1, err)
	}
	if card.Len() > 0 {
		return fmt.Errorf("%s:%d:1: the card that begins here does not end", name, began)
	}
	return nil
}

// readCard reads one card. The values of a property come in the order of their
// preference.
func readCard(r io.Reader, line int, visit func(*directory.Entry)) error {
	card, err := vcard.NewDecoder(r).Decode()
	if err != nil {
		return err
	}
	e := directory.Entry{ID: card.Value(vcard.FieldUID), Line: line}
	names := make([]string, 0, len(card))
	for name := range card {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fields := slices.Clone(card[name])
		slices.SortStableFunc(fields, func(a, b *vcard.Field) int { return preference(a) - preference(b) })
		for _, field := range fields {
			value := field.Value
			switch name {
			case vcard.FieldKind:
				value = strings.ToLower(value)
			case vcard.FieldOrganization:
				value, _, _ = strings.Cut(value, ";")
			case vcard.FieldCategories:
				for one := range strings.SplitSeq(value, ",") {
					e.Add(name, strings.TrimSpace(one))
				}
				continue
			}
			e.Add(name, value)
		}
	}
	visit(&e)
	return nil
}

// preference returns the PREF of a property (RFC 6350, section 5.3), 101 without
// one.
func preference(f *vcard.Field) int {
	var n int
	if _, err := fmt.Sscan(f.Params.Get(vcard.ParamPreferred), &n); err != nil || n < 1 || n > 100 {
		return 101
	}
	return n
}
