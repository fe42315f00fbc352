package plan

import (
	"fmt"
	"strconv"
	"strings"

	"tugline/internal/project"
)

// checkConditions reports what is wrong with the texts of a service, or of what a step
// waits for, before anything starts.
func (b *builder) checkConditions(s *Step) {
	var texts, ports []project.Text
	if service := s.Task.Service; service != nil {
		texts, ports = service.Texts(), []project.Text{service.Ready.Port}
		if service.Serve != nil {
			ports = append(ports, service.Serve.Port)
		}
	}
	if hold := s.Task.HoldUntil; hold != nil {
		texts = append(texts, hold.Port, hold.HTTP, hold.File)
		ports = append(ports, hold.Port)
	}
	report := func(t project.Text, msg string) {
		b.found = append(b.found, project.Diagnostic{Span: t.Span, Msg: msg})
	}
	for _, text := range texts {
		if _, err := text.Expand(s.scope.value); err != nil {
			report(text, err.Error())
		}
	}
	for _, text := range ports {
		value, err := text.Expand(s.scope.value)
		port := value[strings.LastIndexByte(value, ':')+1:]
		if n, bad := strconv.Atoi(port); err == nil && value != "" && (bad != nil || n < 0 || n > 65535) { // empty: it is not given, or not known yet
			report(text, fmt.Sprintf("%q is no port", value))
		}
	}
}
