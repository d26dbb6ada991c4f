// Package address holds mail addresses as values: the Mailbox production of
// RFC 5321 (section 4.1.2), compared as Yorvet compares them.
//
// Two addresses are the same when their keys are equal. The key is the address
// with the local part and the domain in lower case, the domain in A-labels
// (RFC 5890) and a quoted local part without quotes where it needs none. What
// the estate adds to that (domains that mean another one, subaddresses) is not
// known here.
//
// Notable divergences from RFC 5321: local parts compare without case, as every
// mail system in use does; a domain may be written with U-labels; local parts
// outside ASCII (RFC 6531) are refused.
package address

import (
	"net/netip"
	"strconv"
	"strings"

	"golang.org/x/net/idna"
)

// Limits of RFC 5321, section 4.5.3.1, in octets.
const (
	maxLocal  = 64
	maxDomain = 255
)

// An Address is one mailbox. It is comparable only through its Key: the same
// mailbox may be written in several ways. The zero Address is not valid.
type Address struct {
	text string // as written
	key  string // canonical form
	at   int32  // offset of the @ in key
}

// A SyntaxError says why a text is not an address.
type SyntaxError struct {
	Text   string // the whole text
	Offset int    // byte offset in Text where the error was noticed
	Reason string // what is wrong there, and what was expected
}

func (e *SyntaxError) Error() string {
	return clip(e.Text) + " is no address: " + e.Reason
}

func clip(s string) string {
	const most = 60
	if len(s) > most {
		return strconv.Quote(s[:most]) + "..."
	}
	return strconv.Quote(s)
}

// Parse reads one mailbox, without display name, comments or angle brackets.
// A failure is a *SyntaxError.
func Parse(text string) (Address, error) {
	local, rest, err := parseLocal(text)
	if err != nil {
		return Address{}, err
	}
	offset := len(text) - len(rest)
	if rest == "" {
		return Address{}, fail(text, offset, "there is no @")
	}
	if rest[0] != '@' {
		return Address{}, fail(text, offset, "expected @ after the quoted part")
	}
	domain, err := parseDomain(text, offset+1)
	if err != nil {
		return Address{}, err
	}
	key := text // most are written as they are compared
	if text[:offset] != local || rest[1:] != domain {
		key = local + "@" + domain
	}
	return Address{text: text, key: key, at: int32(len(local))}, nil
}

// MustParse is Parse for addresses known to be good; it panics on others. It is
// meant for tests.
func MustParse(text string) Address {
	a, err := Parse(text)
	if err != nil {
		panic(err)
	}
	return a
}

// ParseDomain reads a domain or address literal (RFC 5321, section 4.1.2 and
// 4.1.3) and returns it in lower-case A-labels. A failure is a *SyntaxError.
func ParseDomain(text string) (string, error) {
	return parseDomain(text, 0)
}

// IsValid reports whether a came from Parse.
func (a Address) IsValid() bool { return a.key != "" }

// String returns the address as it was written.
func (a Address) String() string { return a.text }

// Key returns the canonical form. Addresses with equal keys are the same.
func (a Address) Key() string { return a.key }

// Same reports whether two texts are the same address, however each is written. Texts
// that are no addresses are compared without case.
func Same(a, b string) bool {
	if strings.EqualFold(a, b) {
		return true
	}
	x, err := Parse(a)
	if err != nil {
		return false
	}
	y, err := Parse(b)
	return err == nil && x.key == y.key
}

// At returns the byte offset of the @ in the key, from which FromKey makes the address.
func (a Address) At() int { return int(a.at) }

// Restore returns an address that Parse has returned before, of its text, key and offset of
// the @ in the key, and whether they can be those of one. It does not parse.
func Restore(text, key string, at int) (Address, bool) {
	ok := at < len(key) && key[at] == '@' || text == "" && key == "" && at == 0
	return Address{text: text, key: key, at: int32(at)}, ok
}

// Domain returns the domain in lower-case A-labels.
func (a Address) Domain() string {
	if a.key == "" {
		return ""
	}
	return a.key[a.at+1:]
}

// Local returns the local part in lower case, in quotes where it needs them.
func (a Address) Local() string { return a.key[:a.at] }

// WithDomain returns the key that a has in another domain, which has to be in
// the form that ParseDomain returns.
func (a Address) WithDomain(domain string) string {
	return a.key[:a.at+1] + domain
}

// WithoutSubaddress returns a as it is before its first separator (RFC 5233),
// and whether there is a separator with something in front of it. The result
// is written in canonical form.
func (a Address) WithoutSubaddress(separator string) (Address, bool) {
	if a.key == "" {
		return Address{}, false
	}
	local := a.key[:a.at]
	quoted := local[0] == '"'
	if quoted {
		local = unquote(local)
	}
	i := strings.Index(local, separator)
	if separator == "" || i <= 0 {
		return Address{}, false
	}
	local = canonicalLocal(local[:i])
	key := local + a.key[a.at:]
	return Address{text: key, key: key, at: int32(len(local))}, true
}

func fail(text string, offset int, reason string) error {
	return &SyntaxError{Text: text, Offset: offset, Reason: reason}
}

// parseLocal reads a Local-part and returns it in canonical form, with what
// follows it.
//
//	Local-part = Dot-string / Quoted-string
func parseLocal(text string) (local, rest string, err error) {
	if strings.HasPrefix(text, `"`) {
		return parseQuoted(text)
	}
	upper := false
	i := 0
	for ; i < len(text) && text[i] != '@'; i++ {
		c := text[i]
		switch {
		case isAtext(c):
			upper = upper || 'A' <= c && c <= 'Z'
		case c == '.' && i == 0:
			return "", "", fail(text, i, "a local part does not begin with a dot")
		case c == '.' && text[i-1] == '.':
			return "", "", fail(text, i, "two dots stand together")
		case c == '.':
		case c >= 0x80:
			return "", "", fail(text, i, "the part before the @ takes ASCII only (RFC 5321)")
		default:
			return "", "", fail(text, i, "the character "+strconv.QuoteRune(rune(c))+" may stand there only in quotes")
		}
	}
	switch {
	case i == 0 && text == "":
		return "", "", fail(text, 0, "it is empty")
	case i == 0:
		return "", "", fail(text, 0, "nothing stands before the @")
	case text[i-1] == '.':
		return "", "", fail(text, i-1, "a local part does not end with a dot")
	case i > maxLocal:
		return "", "", fail(text, maxLocal, "the part before the @ is longer than 64 octets")
	}
	local = text[:i]
	if upper {
		local = strings.ToLower(local)
	}
	return local, text[i:], nil
}

// parseQuoted reads a Quoted-string.
//
//	Quoted-string = DQUOTE *QcontentSMTP DQUOTE
//	QcontentSMTP  = qtextSMTP / quoted-pairSMTP
func parseQuoted(text string) (local, rest string, err error) {
	for i := 1; i < len(text); i++ {
		c := text[i]
		if c == '"' {
			if i+1 > maxLocal {
				return "", "", fail(text, maxLocal, "the part before the @ is longer than 64 octets")
			}
			return canonicalLocal(strings.ToLower(unquote(text[:i+1]))), text[i+1:], nil
		}
		if c == '\\' {
			i++
			if i == len(text) {
				break
			}
			c = text[i]
		}
		if c < ' ' || c > '~' {
			return "", "", fail(text, i, "a quoted part takes printable ASCII only (RFC 5321)")
		}
	}
	return "", "", fail(text, 0, "the quote is never closed")
}

// unquote returns the content of a well-formed Quoted-string.
func unquote(quoted string) string {
	var b strings.Builder
	for i := 1; i < len(quoted)-1; i++ {
		if quoted[i] == '\\' {
			i++
		}
		b.WriteByte(quoted[i])
	}
	return b.String()
}

// canonicalLocal writes the content of a local part with as few quotes as
// RFC 5321 (section 4.1.2) allows.
func canonicalLocal(content string) string {
	plain := content != "" && content[0] != '.' && content[len(content)-1] != '.' && !strings.Contains(content, "..")
	for i := 0; plain && i < len(content); i++ {
		plain = isAtext(content[i]) || content[i] == '.'
	}
	if plain {
		return content
	}
	var b strings.Builder
	b.WriteByte('"')
	for i := range len(content) {
		if content[i] == '"' || content[i] == '\\' {
			b.WriteByte('\\')
		}
		b.WriteByte(content[i])
	}
	b.WriteByte('"')
	return b.String()
}

// names maps U-labels to A-labels and checks what a host name may hold, but
// lets hyphens stand where RFC 5321 does.
var names = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.Transitional(false),
	idna.StrictDomainName(true), idna.CheckHyphens(false))

// parseDomain reads the Domain or address-literal that text holds from offset
// on.
//
//	Domain     = sub-domain *("." sub-domain)
//	sub-domain = Let-dig [Ldh-str]
func parseDomain(text string, offset int) (string, error) {
	s := text[offset:]
	switch {
	case s == "":
		return "", fail(text, offset, "no domain stands after the @")
	case len(s) > 4*maxDomain:
		return "", fail(text, offset, "the domain is longer than 255 octets")
	case s[0] == '[':
		return parseLiteral(text, offset)
	}
	domain := s
	for i := range len(s) {
		switch c := s[i]; {
		case 'A' <= c && c <= 'Z':
			domain = ""
		case 'a' <= c && c <= 'z', '0' <= c && c <= '9', c == '-', c == '.':
		case c >= 0x80:
			domain = ""
		default:
			return "", fail(text, offset+i, "a domain does not take the character "+strconv.QuoteRune(rune(c)))
		}
	}
	if domain == "" {
		domain = strings.ToLower(s)
	}
	if strings.Contains(domain, "xn--") || !isASCII(domain) {
		var err error
		if domain, err = names.ToASCII(domain); err != nil {
			return "", fail(text, offset, "the domain is no valid international name (IDNA)")
		}
	}
	if len(domain) > maxDomain {
		return "", fail(text, offset, "the domain is longer than 255 octets")
	}
	for label := range strings.SplitSeq(domain, ".") {
		at := offset + max(strings.Index(strings.ToLower(s), label), 0)
		switch {
		case label == "":
			return "", fail(text, offset, "the domain has an empty label")
		case len(label) > 63:
			return "", fail(text, at, "a label of the domain is longer than 63 octets")
		case label[0] == '-' || label[len(label)-1] == '-':
			return "", fail(text, at, "a label of the domain begins or ends with a hyphen")
		}
	}
	return domain, nil
}

// parseLiteral reads an address-literal (RFC 5321, section 4.1.3).
func parseLiteral(text string, offset int) (string, error) {
	s := text[offset:]
	if !strings.HasSuffix(s, "]") {
		return "", fail(text, offset, "the address literal is never closed")
	}
	content := s[1 : len(s)-1]
	bare, six := content, false
	if len(content) > 5 && strings.EqualFold(content[:5], "IPv6:") {
		bare, six = content[5:], true
	}
	ip, err := netip.ParseAddr(bare)
	if err != nil || ip.Is6() != six || ip.Zone() != "" {
		return "", fail(text, offset+1, "expected an IPv4 address or IPv6: and an IPv6 address in the brackets")
	}
	if six {
		return "[ipv6:" + ip.String() + "]", nil
	}
	return "[" + ip.String() + "]", nil
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// isAtext reports whether c is atext of RFC 5322, section 3.2.3.
func isAtext(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
		strings.IndexByte("!#$%&'*+-/=?^_`{|}~", c) >= 0
}
