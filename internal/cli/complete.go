package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/output"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// complete gives a shell what may come next in a run: tasks, the options of
// the task before, the choices of an option. A completion has no place for
// messages: where something is wrong it gives nothing.
func (a *app) complete(cmd *cobra.Command, words []string, next string) ([]string, cobra.ShellCompDirective) {
	const directive = cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	option := ""
	if n := len(words); n > 0 && strings.HasPrefix(words[n-1], "--") && !strings.Contains(words[n-1], "=") {
		words, option = words[:n-1], words[n-1]
	}
	flags := allFlags(cmd)
	p, r, _ := a.readWords(flags, words)
	if p == nil {
		return nil, directive
	}
	if r.task != nil && option != "" {
		if arg := r.task.Arg(option[2:]); arg != nil && arg.Type != project.ArgFlag {
			return a.completeValue(cmd.Context(), p, r.task, arg)
		}
	}
	if name, _, joined := strings.Cut(next, "="); joined && r.task != nil && strings.HasPrefix(name, "--") {
		if arg := r.task.Arg(name[2:]); arg != nil {
			return a.completeValue(cmd.Context(), p, r.task, arg) // the shells put the name before it
		}
	}
	if strings.HasPrefix(next, "-") {
		return completeOptions(r.task, flags), directive
	}
	var found []string
	// Without a word before it, the library itself gives the commands; behind a
	// task there can be none.
	if !cmd.HasParent() && len(words) > 0 && len(r.calls) == 0 {
		for _, c := range cmd.Commands() {
			if c.IsAvailableCommand() {
				found = append(found, cobra.CompletionWithDesc(c.Name(), c.Short))
			}
		}
	}
	for _, t := range output.Listed(p, a.base, false, false) {
		found = append(found, cobra.CompletionWithDesc(a.base.NameOf(t), t.Summary()))
	}
	return found, directive
}

// completeValue gives the values of an argument: its choices, or those of each.
func (a *app) completeValue(ctx context.Context, p *project.Project, t *project.Task, arg *project.Arg) ([]string, cobra.ShellCompDirective) {
	const directive = cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	switch {
	case arg.Each != nil:
		req, err := a.planRequest(ctx, &runOptions{})
		if err != nil {
			return nil, directive
		}
		return plan.EachValues(p, req, t, arg.Name), directive
	case arg.Type == project.ArgFile:
		return nil, cobra.ShellCompDirectiveDefault
	case arg.Type == project.ArgFolder:
		return nil, cobra.ShellCompDirectiveFilterDirs
	case arg.Type == project.ArgFlag:
		return []string{"true", "false"}, directive
	}
	return slices.Clone(arg.Choices), directive
}

func completeOptions(t *project.Task, flags *pflag.FlagSet) []string {
	var found []string
	if t != nil {
		for _, arg := range t.Args {
			if !arg.Rest {
				found = append(found, cobra.CompletionWithDesc("--"+arg.Name, arg.About))
			}
		}
	}
	flags.VisitAll(func(f *pflag.Flag) {
		_, usage := pflag.UnquoteUsage(f)
		found = append(found, cobra.CompletionWithDesc("--"+f.Name, usage))
	})
	return found
}

// allFlags returns the options of cmd and those that hold everywhere.
func allFlags(cmd *cobra.Command) *pflag.FlagSet {
	flags := pflag.NewFlagSet(cmd.Name(), pflag.ContinueOnError)
	flags.SortFlags = false
	flags.AddFlagSet(cmd.Flags())
	flags.AddFlagSet(cmd.InheritedFlags())
	return flags
}
