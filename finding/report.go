package finding

import "fmt"

// Report collects the findings about one machine, for targets that say what a
// machine needs.
type Report struct {
	// Machine is the machine's name.
	Machine  string
	Findings []Finding
}

// Add adds a finding and returns it, so that the caller can set its remedy. The
// pointer is valid until the next call.
func (r *Report) Add(rule string, severity Severity, at Location, format string, args ...any) *Finding {
	r.Findings = append(r.Findings, Finding{
		Rule: rule, Severity: severity, Location: at, Machine: r.Machine, Message: fmt.Sprintf(format, args...),
	})
	return &r.Findings[len(r.Findings)-1]
}
