package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/spf13/pflag"

	"tugline/internal/cache"
	"tugline/internal/fingerprint"
	"tugline/internal/history"
	"tugline/internal/project"
	"tugline/internal/store"
)

// storeLimit is how large the store may become where the project does not say.
const storeLimit = 8 << 30

// pruneEvery is the time between two looks at the size of the store.
const pruneEvery = time.Hour

// memoryOptions say how what is known from earlier runs is used.
type memoryOptions struct {
	force      bool
	forceNeeds bool
	asIs       []string
	noStore    bool
}

func (o *memoryOptions) add(flags *pflag.FlagSet) {
	flags.BoolVar(&o.force, "force", false, "run the named tasks even if unchanged")
	flags.BoolVar(&o.forceNeeds, "force-needs", false, "run the named tasks and everything they need even if unchanged")
	flags.StringArrayVar(&o.asIs, "as-is", nil, "treat `TASK` as unchanged; may be repeated")
	flags.BoolVar(&o.noStore, "no-store", false, "neither store nor restore outputs")
}

// memory opens what is known of p from earlier runs. forced are the tasks that
// --force means.
func (a *app) memory(p *project.Project, options *memoryOptions, forced []project.Call) (*cache.Cache, error) {
	ledger := history.At(p.Folder)
	m := &cache.Cache{
		Top: p.Folder, Ledger: ledger, Files: a.files(), Run: a.runName,
		ForceNeeds: options.forceNeeds, Force: map[*project.Task]bool{}, AsIs: map[*project.Task]bool{},
		World: fingerprint.World{Top: p.Folder, OS: runtime.GOOS, Arch: runtime.GOARCH, Hidden: a.secrets.Text},
	}
	if options.force {
		for _, c := range forced {
			if t := a.base.Task(c.Name); t != nil {
				m.Force[t] = true
			}
		}
	}
	for _, name := range options.asIs {
		t, err := a.task(name)
		if err != nil {
			return nil, err
		}
		m.AsIs[t] = true
	}
	kept, err := a.store()
	if err != nil {
		a.tell("tugline: outputs are neither stored nor restored: " + err.Error() + "\n")
	} else if !options.noStore {
		m.Store = kept
	}
	m.World.Keyed = func(value string) (string, bool) {
		if kept == nil {
			return "", false
		}
		digest, err := kept.Keyed(value)
		return digest, err == nil
	}
	m.Nested = a.variable("TUGLINE_RUN") != ""
	return m, nil
}

// remember makes m ready to be written to. It returns false, and says so, when
// nothing can be kept beside the project.
func (a *app) remember(m *cache.Cache) bool {
	if m.Store != nil {
		if err := m.Store.Create(); err != nil {
			a.tell("tugline: outputs are neither stored nor restored: " + err.Error() + "\n")
			m.Store = nil
		}
	}
	if err := m.Ledger.Create(); err != nil {
		a.tell("tugline: this run is not recorded: " + err.Error() + "\n")
		return false
	}
	if err := m.Ledger.ClearStaging(); err != nil {
		a.tell("tugline: " + err.Error() + "\n")
	}
	m.Files.Clock(m.Ledger.Folder())
	return true
}

// settleMemory ends the use of m: it keeps what is known of the files, and the
// store within its limit.
func (a *app) settleMemory(p *project.Project, m *cache.Cache) {
	if err := m.Files.Save(m.Ledger.Folder()); err != nil {
		a.tell("tugline: " + err.Error() + "\n") // they are read again next time
	}
	if m.Store == nil {
		return
	}
	limit := p.StoreLimit
	if limit == 0 {
		limit = storeLimit
	}
	if err := m.Store.PruneIfDue(limit, pruneEvery); err != nil {
		a.tell("tugline: " + err.Error() + "\n")
	}
}

// store opens the store of the user.
func (a *app) store() (*store.Store, error) {
	folder := a.variable("TUGLINE_STORE")
	if folder == "" {
		cache, err := os.UserCacheDir()
		if err != nil {
			return nil, fmt.Errorf("finding the folder of the store: %w", err)
		}
		folder = filepath.Join(cache, "tugline")
	}
	if !filepath.IsAbs(folder) {
		return nil, errors.New("TUGLINE_STORE must be an absolute path")
	}
	return store.At(folder), nil
}
