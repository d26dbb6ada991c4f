package vcard

import (
	"fmt"
	"strings"
	"testing"

	"yorvet.example/yorvet/internal/directory"
)

// Cards become entries with their lines; what is preferred comes first.
func TestRead(t *testing.T) {
	text := "\r\nBEGIN:VCARD\r\nVERSION:4.0\r\nUID:u1\r\nFN:Ann\r\n  Oake\r\nEMAIL;PREF=9:b@k.example\r\nEMAIL;PREF=1:a@k.example\r\nEMAIL:c@k.example\r\nORG:Deck;North\r\nCATEGORIES:x,y\r\nEND:VCARD\r\n\r\n" +
		"begin:vcard\nVERSION:4.0\nKIND:GROUP\nFN:Crew\nMEMBER:u1\nend:vcard\n"
	var got strings.Builder
	if err := Read(strings.NewReader(text), "x", func(e *directory.Entry) {
		fmt.Fprint(&got, e.Line, " ", e.ID)
		for _, a := range e.Attributes {
			fmt.Fprint(&got, " ", a.Name, "=", strings.Join(a.Values, "|"))
		}
		fmt.Fprintln(&got)
	}); err != nil {
		t.Fatal(err)
	}
	want := "2 u1 CATEGORIES=x|y EMAIL=a@k.example|b@k.example|c@k.example FN=Ann Oake ORG=Deck UID=u1 VERSION=4.0\n14  FN=Crew KIND=group MEMBER=u1 VERSION=4.0\n"
	if got.String() != want {
		t.Errorf("got\n%s\nwant\n%s", got.String(), want)
	}
}

func TestReadErrors(t *testing.T) {
	for text, want := range map[string]string{
		"BEGIN:VCARD\nVERSION:4.0\n": "x:1:1: the card that begins here does not end",
		"\n\nhello\n":                "x:3:1: expected BEGIN:VCARD",
		"BEGIN:VCARD\nNOTE:" + strings.Repeat("a", mostCard):                           "x:2:1:",
		"BEGIN:VCARD\n" + strings.Repeat("NOTE:"+strings.Repeat("a", 1000)+"\n", 5000): "x:1:1: the card is larger",
	} {
		if err := Read(strings.NewReader(text), "x", func(*directory.Entry) {}); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("Read(%.30q): %v, want %s", text, err, want)
		}
	}
}
