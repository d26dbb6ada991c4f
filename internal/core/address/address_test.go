package address

import (
	"errors"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		in, key, local, domain string
	}{
		{"ines.maro@kelpmere.example", "ines.maro@kelpmere.example", "ines.maro", "kelpmere.example"},
		{"Ines.MARO@Kelpmere.Example", "ines.maro@kelpmere.example", "ines.maro", "kelpmere.example"},
		{"a@b", "a@b", "a", "b"}, // RFC 5321 section 4.1.2: one sub-domain is enough
		{"user+tag@x.example", "user+tag@x.example", "user+tag", "x.example"},
		{"!#$%&'*+-/=?^_`{|}~@x.example", "!#$%&'*+-/=?^_`{|}~@x.example", "!#$%&'*+-/=?^_`{|}~", "x.example"},
		{`"ines.maro"@x.example`, "ines.maro@x.example", "ines.maro", "x.example"}, // needs no quotes
		{`"Ines Maro"@x.example`, `"ines maro"@x.example`, `"ines maro"`, "x.example"},
		{`"a\"b\\c\d"@x.example`, `"a\"b\\cd"@x.example`, `"a\"b\\cd"`, "x.example"},
		{`"a@b"@x.example`, `"a@b"@x.example`, `"a@b"`, "x.example"},
		{`""@x.example`, `""@x.example`, `""`, "x.example"},
		{`"a..b"@x.example`, `"a..b"@x.example`, `"a..b"`, "x.example"},
		{"a@bücher.example", "a@xn--bcher-kva.example", "a", "xn--bcher-kva.example"},
		{"a@BÜCHER.example", "a@xn--bcher-kva.example", "a", "xn--bcher-kva.example"},
		{"a@XN--BCHER-KVA.example", "a@xn--bcher-kva.example", "a", "xn--bcher-kva.example"},
		{"a@b--c.example", "a@b--c.example", "a", "b--c.example"},
		{"AZ.az.09@AZaz09.example", "az.az.09@azaz09.example", "az.az.09", "azaz09.example"},
		{"a@Straße.example", "a@xn--strae-oqa.example", "a", "xn--strae-oqa.example"}, // IDNA 2008, not 2003
		{"a@ab--cü.example", "a@xn--ab--c-ova.example", "a", "xn--ab--c-ova.example"},
		{"a@" + strings.Repeat("b", 63) + ".example", "a@" + strings.Repeat("b", 63) + ".example", "a", strings.Repeat("b", 63) + ".example"},
		{"a@" + strings.Repeat("b.", 123) + "c.example", "a@" + strings.Repeat("b.", 123) + "c.example", "a", strings.Repeat("b.", 123) + "c.example"}, // 255 octets
		{`"` + strings.Repeat(" ", 62) + `"@x.example`, `"` + strings.Repeat(" ", 62) + `"@x.example`, `"` + strings.Repeat(" ", 62) + `"`, "x.example"},
		{`"~ "@x.example`, `"~ "@x.example`, `"~ "`, "x.example"},
		{"a@[192.0.2.1]", "a@[192.0.2.1]", "a", "[192.0.2.1]"},
		{"a@[IPv6:2001:DB8::1]", "a@[ipv6:2001:db8::1]", "a", "[ipv6:2001:db8::1]"},
		{strings.Repeat("a", 64) + "@x.example", strings.Repeat("a", 64) + "@x.example", strings.Repeat("a", 64), "x.example"},
	} {
		a, err := Parse(c.in)
		if err != nil {
			t.Errorf("Parse(%q): %v", c.in, err)
			continue
		}
		if a.Key() != c.key || a.Local() != c.local || a.Domain() != c.domain || a.String() != c.in {
			t.Errorf("Parse(%q) = key %q, local %q, domain %q, text %q; want %q, %q, %q", c.in, a.Key(), a.Local(), a.Domain(), a, c.key, c.local, c.domain)
		}
	}
}

// The place of each error is marked by § in the input.
func TestParseErrors(t *testing.T) {
	for _, c := range []struct{ in, reason string }{
		{"§", "it is empty"},
		{"ines.maro§", "there is no @"},
		{"§@x.example", "nothing stands before the @"},
		{"§.a@x.example", "does not begin with a dot"},
		{"a.§.b@x.example", "two dots"},
		{"a§.@x.example", "does not end with a dot"},
		{"a§ b@x.example", "only in quotes"},
		{"a§(c)@x.example", "only in quotes"},
		{"in§és@x.example", "ASCII only"},
		{"§<a@x.example>", "only in quotes"},
		{`§"a b@x.example`, "never closed"},
		{`"a b"§x@x.example`, "expected @"},
		{"\"a§\tb\"@x.example", "printable ASCII"},
		{`§"a\`, "never closed"},
		{strings.Repeat("a", 64) + "§a@x.example", "longer than 64"},
		{`"` + strings.Repeat("a", 63) + `§a"@x.example`, "longer than 64"},
		{"a@§", "no domain"},
		{"a@§＿.example", "no valid international name"}, // U+FF3F is mapped to an underscore
		{"a@[§IPv6:]", "expected an IPv4 address"},
		{"a@[§IPv6]", "expected an IPv4 address"},
		{"\"a§\x7f\"@x.example", "printable ASCII"},
		{"\"a\\§\x01\"@x.example", "printable ASCII"},
		{"a@§" + strings.Repeat("b.", 123) + "cc.example", "longer than 255"},
		{"a@b§_c.example", "does not take the character '_'"},
		{"a@b§@c.example", "does not take the character '@'"},
		{"a@§.example", "empty label"},
		{"a@§x.example.", "empty label"},
		{"a@§-x.example", "hyphen"},
		{"a@y.§x-.example", "hyphen"},
		{"a@§" + strings.Repeat("b", 64) + ".example", "longer than 63"},
		{"a@§" + strings.Repeat("b.", 140) + "example", "longer than 255"},
		{"a@§" + strings.Repeat("b", 2000), "longer than 255"},
		{"a@§xn--zzzzzz99999.example", "IDNA"},
		{"a@[§300.1.1.1]", "expected an IPv4"},
		{"a@[§2001:db8::1]", "expected an IPv4"},
		{"a@[§IPv6:192.0.2.1]", "expected an IPv4"},
		{"a@§[192.0.2.1", "never closed"},
	} {
		in := strings.Replace(c.in, "§", "", 1)
		_, err := Parse(in)
		var bad *SyntaxError
		if !errors.As(err, &bad) {
			t.Errorf("Parse(%q) = %v, want a SyntaxError", in, err)
			continue
		}
		if want := strings.Index(c.in, "§"); bad.Offset != want || !strings.Contains(bad.Reason, c.reason) || bad.Text != in {
			t.Errorf("Parse(%q): %q at %d, want %q at %d", in, bad.Reason, bad.Offset, c.reason, want)
		}
	}
	if _, err := Parse(strings.Repeat("long ", 1000)); len(err.Error()) > 200 {
		t.Errorf("an error about a long text has %d bytes", len(err.Error()))
	}
}

func TestWithoutSubaddress(t *testing.T) {
	for _, c := range []struct{ in, separator, want string }{
		{"ines+a+b@x.example", "+", "ines@x.example"}, // the first separator
		{"Ines+A@x.example", "+", "ines@x.example"},
		{`"in es+a"@x.example`, "+", `"in es"@x.example`},
		{`"ines+a b"@x.example`, "+", `ines@x.example`},
		{"ines--a@x.example", "--", "ines@x.example"},
		{"ines@x.example", "+", ""},
		{"+a@x.example", "+", ""},
		{"ines+a@x.example", "", ""},
	} {
		a, ok := MustParse(c.in).WithoutSubaddress(c.separator)
		if ok != (c.want != "") || a.String() != c.want {
			t.Errorf("%s without %q = %q, %t; want %q", c.in, c.separator, a, ok, c.want)
		}
	}
	if got := MustParse("a@x.example").WithDomain("y.example"); got != "a@y.example" {
		t.Errorf("WithDomain = %q", got)
	}
}

// Texts are the same address however they are written, and else the same text.
func TestSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"ada@x.example", "ADA@X.example", true},
		{"\"ada\"@x.example", "ada@x.example", true},
		{"a@bücher.example", "a@xn--bcher-kva.example", true},
		{"ada@x.example", "bo@x.example", false},
		{"ada@x.example", "ada@y.example", false},
		{"Ada", "ada", true},
		{"ada", "bo", false},
		{"ada@x.example", "ada", false},
		{"ada", "ada@x.example", false},
	} {
		if Same(c.a, c.b) != c.same {
			t.Errorf("%s and %s are the same: %t", c.a, c.b, !c.same)
		}
	}
}

// A long text is cut where it is quoted in an error, and one of 60 octets is not.
func TestClip(t *testing.T) {
	for n, cut := range map[int]bool{59: false, 60: false, 61: true} {
		_, err := Parse(strings.Repeat("a", n))
		if got := strings.Contains(err.Error(), "...") || !strings.Contains(err.Error(), strings.Repeat("a", min(n, 60))); got != cut {
			t.Errorf("of %d octets: %v", n, err)
		}
	}
}

// The offset of an error in a domain is counted from its beginning.
func TestParseDomain(t *testing.T) {
	if domain, err := ParseDomain("Bücher.example"); domain != "xn--bcher-kva.example" || err != nil {
		t.Errorf("%s, %v", domain, err)
	}
	for text, want := range map[string]int{"": 0, "x_y": 1, "x.-y": 2, "[x]": 1} {
		_, err := ParseDomain(text)
		var bad *SyntaxError
		if !errors.As(err, &bad) || bad.Offset != want || bad.Text != text {
			t.Errorf("%q: %+v, want one at %d", text, err, want)
		}
	}
}

func TestZeroAndMust(t *testing.T) {
	var zero Address
	if _, ok := zero.WithoutSubaddress("+"); ok {
		t.Error("the zero address has a subaddress")
	}
	if zero.IsValid() || zero.Domain() != "" || zero.String() != "" {
		t.Errorf("the zero address is %q at %q, valid: %t", zero, zero.Domain(), zero.IsValid())
	}
	defer func() {
		if recover() == nil {
			t.Error("MustParse of no address does not panic")
		}
	}()
	MustParse("no address")
}

// FuzzParse checks that a key is the canonical form: parsing it gives itself.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"a@b", `"a b"@x.example`, "a@[192.0.2.1]", "a@bücher.example", `"\""@x`, "a@[IPv6:::1]", "A+b@C"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := Parse(text)
		if err != nil {
			var bad *SyntaxError
			if !errors.As(err, &bad) || bad.Offset < 0 || bad.Offset > len(text) {
				t.Fatalf("Parse(%q) = %#v", text, err)
			}
			return
		}
		again, err := Parse(a.Key())
		if err != nil || again.Key() != a.Key() {
			t.Fatalf("Parse(%q) has the key %q, which parses to %q, %v", text, a.Key(), again.Key(), err)
		}
		if a.Local()+"@"+a.Domain() != a.Key() {
			t.Fatalf("%q: %q @ %q is not %q", text, a.Local(), a.Domain(), a.Key())
		}
	})
}
