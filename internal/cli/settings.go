package cli

import (
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"paletwin/internal/desk"
	"paletwin/internal/run"
)

// settingsOf are, by command, the flags that are settings: what a default, the layout, a source or a target's place in desk.yaml mostly
// carries. They are said with --with NAME=VALUE.
var settingsOf = map[string][]string{
	"compare":         {"columns", "wear", "slips", "saved-in", "day-order", "check-all", "keep-list", "memory", "layout"},
	"derive":          {"layout", "approve-within-limits"},
	"lend":            {"layout"},
	"take":            {"layout"},
	"show":            {"markdown", "plot"},
	"apply":           {"batch", "pause", "stop-after", "per-field", "system-fields", "touched", "sheet", "encoding", "delimiter", "delete-and-add", "withdraw", "cascade"},
	"handoff":         {"shape", "dialect", "into", "delimiter", "encoding", "line-ends", "clear", "blank", "date", "true", "false", "deletes", "max-records", "max-bytes", "per-field"},
	"handoff collect": {"done", "key", "message", "ok", "refused", "status", "sheet"},
	"verify":          {"expect"},
	"rollback":        {"sheet", "encoding", "delimiter"},
	"restore":         {"sheet", "encoding", "delimiter", "create"},
	"review sheet":    {"by-field"},
	"history":         {"since", "until"},
	"standin":         {"listen", "mood", "moods", "page", "memory", "afresh", "tokens", "certificate", "certificate-key"},
}

// settings are those of a command, and what was said of them.
type settings struct {
	set  *pflag.FlagSet
	said []string
}

// takeSettings makes settings of a command's flags, and of those of its subcommands.
func (a *app) takeSettings(cmd *cobra.Command, path string) {
	for _, c := range cmd.Commands() {
		a.takeSettings(c, strings.TrimSpace(path+" "+c.Name()))
	}
	names := settingsOf[path]
	if len(names) == 0 {
		return
	}
	s := &settings{set: pflag.NewFlagSet(path, pflag.ContinueOnError)}
	var flags, persistent []*pflag.Flag
	cmd.PersistentFlags().VisitAll(func(f *pflag.Flag) { persistent = append(persistent, f) })
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if slices.Contains(names, f.Name) {
			s.set.AddFlag(f)
		} else {
			flags = append(flags, f)
		}
	})
	cmd.ResetFlags()
	for _, f := range flags {
		cmd.Flags().AddFlag(f)
	}
	for _, f := range persistent {
		cmd.PersistentFlags().AddFlag(f)
	}
	use := "a setting, `NAME=VALUE`; they are listed below; repeatable"
	if path == "derive" {
		use = "a setting, or a parameter of the routine, as `NAME=VALUE`; repeatable"
	}
	cmd.Flags().StringArrayVar(&s.said, "with", nil, use)
	_ = cmd.RegisterFlagCompletionFunc("with", s.complete) // it is there
	if a.tuned == nil {
		a.tuned = map[*cobra.Command]*settings{}
	}
	a.tuned[cmd] = s
}

func (s *settings) names() (all []string) {
	s.set.VisitAll(func(f *pflag.Flag) { all = append(all, f.Name) })
	return all
}

func (s *settings) complete(_ *cobra.Command, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
	var all []string
	s.set.VisitAll(func(f *pflag.Flag) {
		_, use := pflag.UnquoteUsage(f)
		if f.Value.Type() == "bool" {
			all = append(all, f.Name+"\t"+use)
		} else {
			all = append(all, f.Name+"=\t"+use)
		}
	})
	return fitting(all, begun), cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// tune takes the settings that the command line says.
func (a *app) tune(cmd *cobra.Command) error {
	s := a.tuned[cmd]
	if s == nil {
		return nil
	}
	var params []string
	for _, text := range s.said {
		name, value, valued := strings.Cut(text, "=")
		f := s.set.Lookup(name)
		switch {
		case f == nil && cmd.Name() == "derive" && valued: // a parameter of the routine, which knows whether it has it
			params = append(params, text)
			continue
		case f == nil:
			return usage("%s has no setting %q%s", cmd.CommandPath(), name, orNear(name, s.names()))
		case !valued && f.Value.Type() == "bool":
			value = "true"
		case !valued:
			return usage("--with %s needs a value: --with %s=…", name, name)
		}
		if err := s.set.Set(name, value); err != nil {
			return usage("--with %s: %q is none of its values: %s", name, value, f.Usage)
		}
	}
	a.params = params
	return nil
}

// settingHint says of a flag that a command does not know that it is a setting; "" if it is none.
func (a *app) settingHint(cmd *cobra.Command, message string) string {
	s := a.tuned[cmd]
	_, name, ok := strings.Cut(message, "unknown flag: --")
	if s == nil || !ok {
		return ""
	}
	name, _, _ = strings.Cut(name, "=")
	switch f := s.set.Lookup(name); {
	case f == nil:
		return ""
	case f.Value.Type() == "bool":
		return "; " + name + " is a setting: --with " + name
	}
	return "; " + name + " is a setting: --with " + name + "=…"
}

// asDeskSays takes settings that the desk has for where a command goes, as far as the command line does not say them. What is a setting
// of another command is passed over, since a place has one list for all.
func (a *app) asDeskSays(cmd *cobra.Command, said map[string]string, place string) error {
	s := a.tuned[cmd]
	if s == nil {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(said)) {
		f := s.set.Lookup(name)
		if f == nil || f.Changed {
			if f == nil && !isSetting(name) {
				return usage("desk.yaml: %s: there is no setting %q", place, name)
			}
			continue
		}
		if err := s.set.Set(name, said[name]); err != nil {
			return usage("desk.yaml: %s: %s: %q is none of its values: %s", place, name, said[name], f.Usage)
		}
	}
	return nil
}

// isSetting reports whether any command has a setting.
func isSetting(name string) bool {
	for _, all := range settingsOf {
		if slices.Contains(all, name) {
			return true
		}
	}
	return false
}

// tuneTo takes the settings of the target that a dossier goes to.
func (a *app) tuneTo(cmd *cobra.Command, t *desk.Dossier, to string) error {
	name, with := t.Desk().Settings.With(a.placeOf(t, to))
	if name == "" {
		return nil
	}
	return a.asDeskSays(cmd, with, "targets: "+name)
}

// placeOf is where a dossier goes: what the command line names, or where its last run went.
func (a *app) placeOf(t *desk.Dossier, to string) string {
	if to != "" {
		return a.targetName(t, to)
	}
	if last, err := run.LastTarget(t); err == nil && last != nil {
		return last.Target
	}
	return ""
}
