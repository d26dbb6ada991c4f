package standin

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/emersion/go-imap/v2"
)

// The bounds of the folders of a mailbox.
const (
	maxFolders    = 100
	maxFolderName = 60 // bytes, so that it is a file name however it is encoded
	maxPattern    = 1 << 10
)

// ownFolder begins the names on disk of folders that a reader has made. No name of
// the service's own, nor one that a system keeps for itself, begins so.
const ownFolder = "="

// onDisk returns the name that a folder has on disk: its letters, digits and hyphens
// as they are, and all else in hexadecimal, so that no name leads anywhere.
func onDisk(folder string) string {
	switch folder {
	case inbox, junkFolder, archiveFolder:
		return folder
	}
	var b strings.Builder
	b.WriteString(ownFolder)
	for i := range len(folder) {
		switch c := folder[i]; {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '-':
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "_%02x", c)
		}
	}
	return b.String()
}

// fromDisk is the reverse of onDisk. ok is false for what onDisk does not write.
func fromDisk(name string) (folder string, ok bool) {
	text, own := strings.CutPrefix(name, ownFolder)
	if !own {
		return name, onDisk(name) == name
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '_' {
			b.WriteByte(text[i])
			continue
		}
		if i+3 > len(text) {
			return "", false
		}
		c, err := strconv.ParseUint(text[i+1:i+3], 16, 8)
		if err != nil {
			return "", false
		}
		b.WriteByte(byte(c))
		i += 2
	}
	return b.String(), onDisk(b.String()) == name && checkFolder(b.String()) == nil
}

// checkFolder refuses names that no folder can have: empty ones and parts of names,
// control characters, and what is too long.
func checkFolder(name string) error {
	switch {
	case len(name) > maxFolderName:
		return cannot(fmt.Sprintf("A folder has a name of %d bytes at most", maxFolderName))
	case strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\ufffd' }):
		return cannot("A folder has no control characters in its name")
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == "" {
			return cannot("No part of the name of a folder is empty")
		}
	}
	return nil
}

// cannot is an answer that refuses a name (RFC 5530).
func cannot(text string) error {
	return &imap.Error{Type: imap.StatusResponseTypeNo, Code: imap.ResponseCodeCannot, Text: text}
}

// theInbox returns the name of a folder as it is kept: INBOX is one in any case
// (RFC 9051, section 5.1).
func theInbox(name string) string {
	if strings.EqualFold(name, inbox) {
		return inbox
	}
	return name
}

// matches reports whether a pattern of LIST picks a folder (RFC 9051, section
// 6.3.9): * stands for anything, % for anything but the separator. It takes time by
// the length of both, whatever the pattern is.
func matches(name, reference, pattern string) bool {
	if rest, fromRoot := strings.CutPrefix(pattern, "/"); fromRoot {
		reference, pattern = "", rest
	}
	if reference != "" {
		if !strings.HasSuffix(reference, "/") {
			reference += "/"
		}
		var below bool
		if name, below = strings.CutPrefix(name, reference); !below {
			return false
		}
	}
	// at[i] tells whether the pattern so far matches the first i bytes of the name.
	at := make([]bool, len(name)+1)
	at[0] = true
	for _, c := range []byte(pattern) {
		if c == '*' || c == '%' {
			for i := range len(name) {
				at[i+1] = at[i+1] || at[i] && (c == '*' || name[i] != '/')
			}
			continue
		}
		for i := len(name); i > 0; i-- {
			at[i] = at[i-1] && name[i-1] == c
		}
		at[0] = false
	}
	return at[len(name)]
}
