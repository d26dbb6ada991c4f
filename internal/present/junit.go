package present

import (
	"encoding/xml"
	"io"
)

// junitCase is a test in the XML that build servers read test results from.
type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	File    string        `xml:"file,attr,omitempty"`
	Line    int           `xml:"line,attr,omitempty"`
	Time    string        `xml:"time,attr"` // seconds
	Failure *junitFailure `xml:"failure"`
}

// junitFailure is why a test fails.
type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// writeJUnit writes tests in that XML.
func writeJUnit(w io.Writer, tests interface{ junit() (string, []junitCase) }) error {
	type suite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	type suites struct {
		XMLName xml.Name `xml:"testsuites"`
		Suites  []suite
	}
	name, cases := tests.junit()
	one := suite{Name: name, Tests: len(cases), Cases: cases}
	for _, c := range cases {
		if c.Failure != nil {
			one.Failures++
		}
	}
	data, err := xml.MarshalIndent(suites{Suites: []suite{one}}, "", "  ")
	if err != nil {
		return err
	}
	_, err = w.Write(append([]byte(xml.Header), append(data, '\n')...))
	return err
}
