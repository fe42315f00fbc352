package cache

import (
	"fmt"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/plan"
)

// MissingFiles returns why a step is skipped for files that are not there.
func MissingFiles(tree *files.Tree, s *plan.Step) (string, error) {
	set, err := glob.Compile(plan.Patterns(s.When))
	if err != nil {
		return "", err
	}
	found, err := tree.Match(set)
	if err != nil || len(found) > 0 {
		return "", err
	}
	var texts []string
	for _, g := range s.When {
		texts = append(texts, g.Text.Value)
	}
	return fmt.Sprintf("only if %s exists", strings.Join(texts, " or ")), nil
}
