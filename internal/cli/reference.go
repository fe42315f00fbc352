package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tugline/internal/project"
)

// Reference returns the reference of the project file and of the commands, as
// Markdown. rest is put between the two: what stands in no table of the program.
func Reference(rest string) string {
	var b strings.Builder
	b.WriteString("# Reference\n\nMade from the program by `go run ./docs/generate`; do not edit.\n\n")
	b.WriteString("## The project file\n\n`tugline.toml`, in TOML. `tugline schema` prints its JSON Schema.\n\n")
	keyTable(&b, "Keys at the top", project.TopKeys())
	keyTable(&b, "Keys of a task", project.TaskKeys())
	keyTable(&b, "Keys of a part, in its long form", project.PartKeys())
	keyTable(&b, "Keys of a list", project.ListKeys())
	keyTable(&b, "Keys of when", project.WhenKeys())
	keyTable(&b, "Keys of an entry of require", project.RequireKeys())
	keyTable(&b, "Keys of hold_until", project.HoldKeys())
	keyTable(&b, "Keys of ready", project.ReadyKeys())
	keyTable(&b, "Keys of serve", project.ServeKeys())
	keyTable(&b, "Keys of an argument", project.ArgKeys())
	keyTable(&b, "Keys of a variable, in its long form", project.VarKeys())
	b.WriteString(rest)
	b.WriteString("## Commands\n\n")
	root := (&app{}).root()
	b.WriteString("### Everywhere\n\n" + optionTable(root.PersistentFlags()))
	for _, cmd := range root.Commands() {
		if cmd.Name() != "help" && !cmd.Hidden {
			commandReference(&b, cmd)
		}
	}
	return b.String()
}

func keyTable(b *strings.Builder, title string, keys []project.KeyDoc) {
	fmt.Fprintf(b, "### %s\n\n| key | holds | what it is |\n| --- | --- | --- |\n", title)
	for _, k := range keys {
		fmt.Fprintf(b, "| `%s` | %s | %s |\n", k.Name, k.Holds, strings.ReplaceAll(k.About, "|", `\|`))
	}
	b.WriteString("\n")
}

func commandReference(b *strings.Builder, cmd *cobra.Command) {
	fmt.Fprintf(b, "### tugline %s\n\n%s.\n\n", cmd.Use, cmd.Short)
	if cmd.Long != "" {
		fmt.Fprintf(b, "%s\n\n", cmd.Long)
	}
	b.WriteString(optionTable(cmd.LocalNonPersistentFlags()))
	for _, sub := range cmd.Commands() {
		if !sub.Hidden && cmd.Name() == "service" {
			fmt.Fprintf(b, "#### tugline service %s\n\n%s.\n\n%s", sub.Use, sub.Short, optionTable(sub.LocalNonPersistentFlags()))
		}
	}
}

func optionTable(flags *pflag.FlagSet) string {
	var b strings.Builder
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" {
			return
		}
		argument, usage := pflag.UnquoteUsage(f)
		name := strings.TrimSpace("--" + f.Name + " " + argument)
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		fmt.Fprintf(&b, "| `%s` | %s |\n", name, usage)
	})
	if b.Len() == 0 {
		return ""
	}
	return "| option | what it does |\n| --- | --- |\n" + b.String() + "\n"
}
