package ldap

import "testing"

func TestParseURL(t *testing.T) {
	for text, want := range map[string][3]string{
		"ldap://127.0.0.1:389/dc=kelp,dc=example":    {"ldap", "127.0.0.1:389", "dc=kelp,dc=example"},
		"ldaps://directory.kelp.example/o=Kelp%20X":  {"ldaps", "directory.kelp.example", "o=Kelp X"},
		"ldap://[::1]:3389":                          {"ldap", "[::1]:3389", ""},
		"ldapi://%2Frun%2Fslapd%2Fldapi/dc=kelp%2Cx": {"ldapi", "/run/slapd/ldapi", "dc=kelp,x"},
		"ldapi://%2Frun%2Fldapi":                     {"ldapi", "/run/ldapi", ""},
	} {
		scheme, host, base, err := ParseURL(text)
		if got := [3]string{scheme, host, base}; got != want || err != nil {
			t.Errorf("ParseURL(%s) = %q, %v, want %q", text, got, err, want)
		}
	}
	for _, text := range []string{"ldapi://%zz/", "ldap://a b/", "://"} {
		if _, _, _, err := ParseURL(text); err == nil {
			t.Errorf("ParseURL(%s) is no error", text)
		}
	}
}
