package cli

import (
	"github.com/spf13/pflag"

	"tugline/internal/project"
	"tugline/internal/session"
)

// cacheOptions say how what is known from earlier runs is used.
type cacheOptions struct {
	force      bool
	forceNeeds bool
	asIs       []string
	noStore    bool
}

func (o *cacheOptions) add(flags *pflag.FlagSet) {
	flags.BoolVar(&o.force, "force", false, "run the named tasks even if unchanged")
	flags.BoolVar(&o.forceNeeds, "force-needs", false, "run the named tasks and everything they need even if unchanged")
	flags.StringArrayVar(&o.asIs, "as-is", nil, "treat `TASK` as unchanged; may be repeated")
	flags.BoolVar(&o.noStore, "no-store", false, "neither store nor restore outputs")
}

// request returns what calls and options ask of the session.
func (a *app) request(calls []project.Call, options *runOptions) (session.Request, error) {
	r := session.Request{
		Calls: calls, Set: options.set, Jobs: options.jobs,
		Force: options.force, ForceNeeds: options.forceNeeds, NoStore: options.noStore,
	}
	for _, name := range options.files {
		r.EnvFiles = append(r.EnvFiles, a.absolute(name))
	}
	for _, name := range options.asIs {
		t, err := a.task(name)
		if err != nil {
			return r, err
		}
		r.AsIs = append(r.AsIs, t)
	}
	if options.resumes != nil {
		run, err := a.findRun(a.session.Ledger, *options.resumes)
		if err != nil {
			return r, err
		}
		r.Resume = &run
	}
	return r, nil
}
