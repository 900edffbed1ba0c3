package suite

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"
)

// The form that builds take test results in, as JUnit's Ant task first wrote it.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name      string      `xml:"name,attr"`
	Tests     int         `xml:"tests,attr"`
	Failures  int         `xml:"failures,attr"`
	Timestamp string      `xml:"timestamp,attr"`
	Time      string      `xml:"time,attr"`
	Cases     []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// JUnit writes the report as JUnit XML: a suite for each model, in which a case fails whose rate is below a share.
func (r *Report) JUnit(share float64) ([]byte, error) {
	seconds := func(ms int64) string { return fmt.Sprintf("%.3f", float64(ms)/1000) }
	var out junitSuites
	for _, model := range r.Models {
		one := junitSuite{Name: r.Suite + ": " + model, Timestamp: r.Begun.Format(time.RFC3339), Time: seconds(r.TookMS)}
		for _, c := range r.Cells {
			if c.Model != model {
				continue
			}
			one.Tests++
			got := junitCase{Class: r.Suite + "." + model, Name: c.Case, Time: seconds(c.TookMS)}
			if c.Rate() < share {
				one.Failures++
				var lines []string
				for _, f := range c.Failures {
					lines = append(lines, fmt.Sprintf("sample %d, seed %d, %s: %s", f.Sample, f.Seed, f.What, f.Why))
				}
				got.Failure = &junitFailure{fmt.Sprintf("%d of %d passed", c.Passed, c.Asked), strings.Join(lines, "\n")}
			}
			one.Cases = append(one.Cases, got)
		}
		out.Suites = append(out.Suites, one)
	}
	raw, err := xml.MarshalIndent(out, "", "  ")
	return append([]byte(xml.Header), append(raw, '\n')...), err
}
