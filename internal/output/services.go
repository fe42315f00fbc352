package output

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"tugline/internal/background"
	"tugline/internal/engine"
	"tugline/internal/service"
)

// Services writes the services that run in the background, one a line; shown returns
// a path as the user would write it.
func Services(w io.Writer, running []background.Running, shown func(string) string, st Style) error {
	if len(running) == 0 {
		_, err := io.WriteString(w, "no service runs in the background\n")
		return err
	}
	rows := [][]string{{"state", "service", "for", "restarts", "address", "log"}}
	for _, r := range running {
		rows = append(rows, []string{
			string(r.State), printable(r.Name), clock(time.Since(r.Started)), fmt.Sprint(r.Restarts), printable(r.Address), printable(shown(r.LogFile)),
		})
	}
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	var b strings.Builder
	for n, row := range rows {
		var cells []string
		for i, cell := range row {
			text := pad(cell, widths[i])
			switch {
			case n == 0:
				text = st.faint(text)
			case i == 0:
				text = st.state(engine.State(cell), text)
			}
			cells = append(cells, text)
		}
		b.WriteString(strings.TrimRight(strings.Join(cells, "  "), " ") + "\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// jsonService is a service as JSON.
type jsonService struct {
	Name     string        `json:"name"`
	Task     string        `json:"task"`
	State    service.State `json:"state"`
	Started  time.Time     `json:"started"`
	Since    time.Time     `json:"since"`
	Restarts int           `json:"restarts"`
	Address  *string       `json:"address"`
	Process  int           `json:"process"`
	Log      string        `json:"log"`
}

// ServicesJSON writes the same as one JSON object.
func ServicesJSON(w io.Writer, running []background.Running) error {
	list := []jsonService{}
	for _, r := range running {
		s := jsonService{r.Name, r.Task, r.State, r.Started, r.Since, r.Restarts, nil, r.Process, r.LogFile}
		if r.Address != "" {
			s.Address = &r.Address
		}
		list = append(list, s)
	}
	return JSON(w, map[string]any{"services": list})
}
