package standin

import (
	"testing"
)

// Fields are put in front, in place of those of the same name with all their
// lines; the rest of a message stays as it is.
func TestEditHeader(t *testing.T) {
	subject := headerEdit{"Subject", "New", false}
	for _, c := range []struct {
		name, raw string
		edits     []headerEdit
		want      string
	}{
		{"replaced", "From: a\r\nSubject: Old\r\nTo: b\r\n\r\nSubject: text\r\n", []headerEdit{subject}, "Subject: New\r\nFrom: a\r\nTo: b\r\n\r\nSubject: text\r\n"},
		{"folded", "Subject: Old\r\n and long\r\n\tand longer\r\nTo: b,\r\n c\r\n\r\ntext", []headerEdit{subject}, "Subject: New\r\nTo: b,\r\n c\r\n\r\ntext"},
		{"any case, twice", "SUBJECT : Old\r\nTo: b\r\nsubject: Older\r\n\r\n", []headerEdit{subject}, "Subject: New\r\nTo: b\r\n\r\n"},
		{"longer names stay", "Subject-Old: x\r\nSub: y\r\n\r\n", []headerEdit{subject}, "Subject: New\r\nSubject-Old: x\r\nSub: y\r\n\r\n"},
		{"added", "Received: x\r\n\r\n", []headerEdit{{"Received", "y", true}}, "Received: y\r\nReceived: x\r\n\r\n"},
		{"taken out", "Subject: Old\r\nTo: b\r\n\r\n", []headerEdit{{"Subject", "", false}}, "To: b\r\n\r\n"},
		{"bare line feeds", "Subject: Old\nTo: b\n\nSubject: text\n", []headerEdit{subject}, "Subject: New\r\nTo: b\n\nSubject: text\n"},
		{"one line", "Subject: two\r\nlines\r\n\r\n", []headerEdit{{"Subject", "two\r\nBcc: x", false}}, "Subject: two Bcc: x\r\nlines\r\n\r\n"},
		{"no field", "text without a colon\r\n\r\n", []headerEdit{subject}, "Subject: New\r\ntext without a colon\r\n\r\n"},
		{"a line of two bytes", "a\n\rb\nTo: c\r\n\r\n", []headerEdit{{"To", "d", false}}, "To: d\r\na\n\rb\n\r\n"},
		{"no end of the header", "To: b", []headerEdit{subject}, "Subject: New\r\nTo: b\r\n"},
		{"two at once", "A: 1\r\nB: 2\r\n\r\n", []headerEdit{{"B", "3", false}, {"A", "4", false}}, "B: 3\r\nA: 4\r\n\r\n"},
	} {
		if got := string(editHeader([]byte(c.raw), c.edits...)); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// A message is cut into its fields, each with its further lines.
func TestSplitRaw(t *testing.T) {
	for raw, want := range map[string]string{
		"A: 1\r\n 2\r\n\t3\r\nB: 4\r\n\r\ntext": "A: 1\r\n 2\r\n\t3\r\n|B: 4\r\n|ok \r\ntext",
		" 1\nA: 2\n\n":                          " 1\n|A: 2\n|ok \n",
		"A: 1":                                  "A: 1|\r\n",
		"":                                      "\r\n",
		"\r\ntext":                              "ok \r\ntext",
	} {
		fields, rest, ok := splitRaw([]byte(raw))
		got := ""
		for _, f := range fields {
			got += string(f) + "|"
		}
		if ok {
			got += "ok "
		}
		if got += string(rest); got != want {
			t.Errorf("%q: %q, want %q", raw, got, want)
		}
	}
}
