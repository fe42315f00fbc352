package plan

import (
	"fmt"
	"strconv"
	"strings"

	"tugline/internal/project"
)

// checkService reports what is wrong with the texts of a service, before anything
// starts.
func (b *builder) checkService(s *Step) {
	service := s.Task.Service
	if service == nil {
		return
	}
	report := func(t project.Text, msg string) {
		b.found = append(b.found, project.Diagnostic{Span: t.Span, Msg: msg})
	}
	for _, text := range service.Texts() {
		if _, err := text.Expand(s.scope.value); err != nil {
			report(text, err.Error())
		}
	}
	ports := []project.Text{service.Ready.Port}
	if service.Serve != nil {
		ports = append(ports, service.Serve.Port)
	}
	for _, text := range ports {
		value, err := text.Expand(s.scope.value)
		port := value[strings.LastIndexByte(value, ':')+1:]
		if n, bad := strconv.Atoi(port); err == nil && value != "" && (bad != nil || n < 0 || n > 65535) { // empty: it is not given, or not known yet
			report(text, fmt.Sprintf("%q is no port", value))
		}
	}
}
