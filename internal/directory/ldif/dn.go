package ldif

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"
)

// Normal returns the form in which distinguished names are compared: without
// case, without blanks around separators, with all escapes of RFC 4514 read. A
// text that is no name is returned without case.
func Normal(dn string) string {
	if plain, ok := normalPlain(dn); ok {
		return plain
	}
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(strings.TrimSpace(dn))
	}
	var b strings.Builder
	for i, rdn := range parsed.RDNs {
		if i > 0 {
			b.WriteByte(',')
		}
		parts := make([]string, 0, len(rdn.Attributes))
		for _, a := range rdn.Attributes {
			// The length keeps a value apart from what follows it.
			value := strings.Join(strings.Fields(strings.ToLower(a.Value)), " ")
			parts = append(parts, strings.ToLower(a.Type)+"="+escape(value))
		}
		slices.Sort(parts)
		b.WriteString(strings.Join(parts, "+"))
	}
	return b.String()
}

// normalPlain is Normal for a name without escapes, quotes and multiple values,
// as nearly all are.
func normalPlain(dn string) (string, bool) {
	lower := true
	for i := range len(dn) {
		switch c := dn[i]; {
		case c == '\\' || c == '"' || c == '+' || c == '#' || c == ';' || c == '<' || c == '>' || c >= 0x80 || c < ' ':
			return "", false
		case c == ' ' && (i == 0 || i == len(dn)-1 || dn[i-1] == ',' || dn[i-1] == '=' || dn[i-1] == ' ' ||
			dn[i+1] == ',' || dn[i+1] == '='):
			return "", false
		case 'A' <= c && c <= 'Z':
			lower = false
		}
	}
	if lower {
		return dn, true
	}
	return strings.ToLower(dn), true
}

// escape writes a value so that it ends where it ends.
func escape(value string) string {
	return strings.NewReplacer(`\`, `\\`, ",", `\,`, "+", `\+`).Replace(value)
}

// Value returns a text as the value of a name (RFC 4514, section 2.4).
func Value(text string) string { return ldap.EscapeDN(text) }
