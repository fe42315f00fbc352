package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"time"
)

// mostInXML is how much of the log of a step JUnit XML holds, in bytes.
const mostInXML = 64 << 10

// The elements of JUnit XML, as the build servers that read it agree on.
type (
	testSuites struct {
		XMLName  xml.Name  `xml:"testsuites"`
		Name     string    `xml:"name,attr"`
		Tests    int       `xml:"tests,attr"`
		Failures int       `xml:"failures,attr"`
		Errors   int       `xml:"errors,attr"`
		Time     string    `xml:"time,attr"`
		Suite    testSuite `xml:"testsuite"`
	}
	testSuite struct {
		Name      string     `xml:"name,attr"`
		Tests     int        `xml:"tests,attr"`
		Failures  int        `xml:"failures,attr"`
		Errors    int        `xml:"errors,attr"`
		Skipped   int        `xml:"skipped,attr"`
		Time      string     `xml:"time,attr"`
		Timestamp string     `xml:"timestamp,attr"`
		Cases     []testCase `xml:"testcase"`
	}
	testCase struct {
		Name    string   `xml:"name,attr"`
		Class   string   `xml:"classname,attr"`
		Time    string   `xml:"time,attr"`
		Skipped *message `xml:"skipped"`
		Failure *failure `xml:"failure"`
		Output  string   `xml:"system-out,omitempty"`
	}
	message struct {
		Message string `xml:"message,attr"`
	}
	failure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes a run as JUnit XML: a test case for each step. Steps that were unchanged or
// restored have passed; those that were skipped, stopped or blocked count as skipped.
func (r *Report) JUnit(w io.Writer) error {
	name := r.Title
	if name == "" {
		name = "tugline"
	}
	seconds := func(ms int64) string { return fmt.Sprintf("%.3f", float64(ms)/1000) }
	suite := testSuite{Name: name, Time: seconds(r.Run.Ms), Timestamp: r.Run.Started.UTC().Format("2006-01-02T15:04:05"), Cases: []testCase{}}
	for i := range r.Run.Steps {
		s := &r.Run.Steps[i]
		c := testCase{Name: plain(s.Name), Class: plain(s.Task), Time: seconds(s.Ms)}
		switch s.State {
		case "failed":
			text, _ := r.Log(s, mostInXML)
			place := ""
			if s.Place != nil {
				place = fmt.Sprintf("%s:%d:%d: ", s.Place.File, s.Place.Line, s.Place.Column)
			}
			c.Failure = &failure{Message: plain(place + s.Reason), Type: "failed", Text: plain(text)}
			suite.Failures++
		case "skipped", "stopped", "blocked":
			c.Skipped = &message{plain(s.State + ": " + s.Reason)}
			suite.Skipped++
		default:
			if text, _ := r.Log(s, mostInXML); s.State == "ran" {
				c.Output = plain(text)
			}
		}
		suite.Cases = append(suite.Cases, c)
	}
	suite.Tests = len(suite.Cases)
	all := testSuites{Name: name, Tests: suite.Tests, Failures: suite.Failures, Time: suite.Time, Suite: suite}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return fmt.Errorf("writing JUnit XML: %w", err)
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// span writes a span of time as the page shows it.
func span(d time.Duration) string {
	switch {
	case d == 0:
		return "0 s"
	case d < time.Second:
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	case d < 10*time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}
