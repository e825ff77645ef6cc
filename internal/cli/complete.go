package cli

import (
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"paletwin/core/changeset"
	screen "paletwin/internal/term"
)

// completes gives commands what a shell completes them with: dossiers, and the names that stand for something on the desk. It reads no
// more than names and, where fields are asked for, one dossier.
func (a *app) completes(root *cobra.Command, onDossier []*cobra.Command) {
	for _, c := range root.Commands() {
		a.completesFlags(c)
	}
	for _, c := range onDossier {
		c.ValidArgsFunction = a.completeDossier
		for _, sub := range c.Commands() {
			sub.ValidArgsFunction = a.completeDossier
			a.completesFlags(sub)
		}
	}
}

// completer is what cobra asks for what a word may become.
type completer = func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective)

// completesFlags completes a command's flags by their names, and those whose help says which values they take.
func (a *app) completesFlags(c *cobra.Command) {
	var codes []string
	for _, code := range changeset.Codes() {
		codes = append(codes, code.Name+"\t"+code.Means)
	}
	from := map[string]completer{
		"finding": oneOf(codes...), "field": a.completeField, "allow": oneOf("amend", "add", "delete"),
		"routine": a.onDesk("routine"), "again": a.onDesk("selection"), "source": a.onDesk("source"), "layout": a.onDesk("layout"), "to": a.onDesk("target"),
	}
	c.Flags().VisitAll(func(f *pflag.Flag) {
		complete := from[f.Name]
		if values, _ := pflag.UnquoteUsage(f); complete == nil && strings.Contains(values, "|") {
			complete = oneOf(strings.Split(values, "|")...)
		}
		if complete != nil {
			_ = c.RegisterFlagCompletionFunc(f.Name, complete) // only a flag that is not there is an error
		}
	})
}

// oneOf completes one of some words.
func oneOf(all ...string) completer {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		return fitting(all, begun), cobra.ShellCompDirectiveNoFileComp
	}
}

// onDesk completes the name of something of a kind that the desk keeps; a layout or target may be a file, too.
func (a *app) onDesk(kind string) completer {
	return func(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		files := cobra.ShellCompDirectiveNoFileComp
		if kind == "layout" || kind == "target" {
			files = cobra.ShellCompDirectiveDefault
		}
		d, err := a.desk()
		if err != nil {
			return nil, files
		}
		var all []string
		for _, k := range d.Kept() {
			if k.Kind == kind {
				all = append(all, k.Name+"\t"+a.aboutKept(&k))
			}
		}
		return fitting(all, begun), files
	}
}

// completeDossier completes a dossier; what follows it are files.
func (a *app) completeDossier(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	d, err := a.desk()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names, err := d.Names()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	all := []string{"-\tyour newest"}
	for _, n := range slices.Backward(names) {
		number, slug, _ := strings.Cut(n, "-")
		all = append(all, number+"\t"+slug)
	}
	return fitting(all, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// completeField completes a field of the dossier that the command line names.
func (a *app) completeField(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	d, err := a.desk()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	t, err := d.Dossier(args[0], a.user)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	parts, err := t.Parts()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var all []string
	for _, p := range parts {
		for _, f := range p.Set().Fields {
			all = append(all, f.Field)
		}
	}
	return fitting(all, begun), cobra.ShellCompDirectiveNoFileComp
}

// typable are words that mean nothing but themselves to a shell: a name on a desk may be somebody else's, and what is completed is run.
var typable = regexp.MustCompile(`^[\pL\pM\pN._/@:+,=-]+$`)

// fitting are the words that begin as what was typed.
func fitting(all []string, begun string) []string {
	var fit []string
	for _, w := range all {
		word, about, has := strings.Cut(w, "\t")
		if !strings.HasPrefix(word, begun) || !typable.MatchString(word) {
			continue
		}
		if has && about != "" {
			word += "\t" + screen.Safe(strings.Join(strings.Fields(about), " "))
		}
		fit = append(fit, word)
	}
	return fit
}
