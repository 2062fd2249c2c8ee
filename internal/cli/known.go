package cli

import (
	"context"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/manual"
	"revlet/internal/config"
	"revlet/internal/platform/state"
	"revlet/internal/site"
	"revlet/internal/watch/history"
)

// mostKnown is how many names of one kind are offered.
const mostKnown = 500

// known returns what knows the names of a kind that a shell may complete. It writes nothing, and asks
// nobody: a machine that has no configuration or history yet has no names.
func (a *app) known(ctx context.Context, words []string) func(c *cli.Command, kind string, given []string) []manual.Choice {
	return func(_ *cli.Command, kind string, given []string) []manual.Choice {
		switch kind {
		case "FILE", "FOLDER", "PATH", "DIR", "WEBROOT", "PROGRAM", "ZONES":
			return []manual.Choice{{Word: manual.Files}}
		case "SCOPE":
			return choices("full", "files", "database")
		case "MODE":
			return choices("replace", "fill", "verify", "unverified", "off")
		case "HOW":
			return choices("closed", "redirect", "open")
		case "KIND":
			return choices("starttls", "tls", "plain")
		case "COMMAND":
			return nil
		}
		cfg := a.localConfig(words)
		if cfg == nil {
			return nil
		}
		switch kind {
		case "SITE":
			return siteChoices(cfg)
		case "STORE":
			return choices(slices.Sorted(maps.Keys(cfg.Stores))...)
		case "TABLE":
			return a.localTables(ctx, cfg, words, given)
		case "ARCHIVE", "A", "B":
			return append(siteChoices(cfg), a.localArchives(ctx, cfg, words)...)
		case "WHAT":
			return append(choices("files", "database"), components(cfg, given)...)
		case "N":
			return a.localRuns(ctx, cfg, words)
		}
		return nil
	}
}

func choices(names ...string) (all []manual.Choice) {
	for _, name := range names {
		all = append(all, manual.Choice{Word: name})
	}
	return all
}

// option is the value of an option among words that were typed.
func option(words []string, name string) string {
	for i, word := range words {
		if value, ok := strings.CutPrefix(word, name+"="); ok {
			return value
		}
		if word == name && i+1 < len(words) {
			return words[i+1]
		}
	}
	return ""
}

func (a *app) localConfig(words []string) *config.Config {
	named := option(words, "--config")
	path, exists := config.Locate(named, a.env("REVLET_CONFIG"))
	if !exists || config.Trusted(path, named != "" || a.env("REVLET_CONFIG") != "", a.sudoer()) != nil {
		return nil
	}
	cfg, err := config.Load(path)
	if err != nil {
		return nil
	}
	return cfg
}

func siteChoices(cfg *config.Config) (all []manual.Choice) {
	for _, name := range cfg.SiteNames() {
		all = append(all, manual.Choice{Word: name, What: cfg.Sites[name].Address})
	}
	return all
}

// components are those of the sites that were named, or of all.
func components(cfg *config.Config, given []string) (all []manual.Choice) {
	for _, name := range cfg.SiteNames() {
		if len(given) > 0 && !strings.HasPrefix(given[0], name) {
			continue
		}
		recipe, err := site.RecipeNamed(cfg.Sites[name].Recipe)
		if err != nil {
			continue
		}
		for _, c := range recipe.Components {
			if one := (manual.Choice{Word: c.Name}); !slices.Contains(all, one) {
				all = append(all, one)
			}
		}
	}
	return all
}

// localHistory opens the history, if there is one.
func (a *app) localHistory(ctx context.Context, cfg *config.Config, words []string) bool {
	a.jobs.Config = cfg
	dir := a.jobs.StateDir(option(words, "--state"))
	if _, err := os.Stat((&state.State{Dir: dir}).History()); err != nil {
		return false
	}
	return a.jobs.OpenState(ctx, dir) == nil
}

func (a *app) localArchives(ctx context.Context, cfg *config.Config, words []string) (all []manual.Choice) {
	if !a.localHistory(ctx, cfg, words) {
		return nil
	}
	for _, name := range cfg.SiteNames() {
		archives, err := a.jobs.History.Archives(ctx, name)
		if err != nil {
			return all
		}
		for _, h := range archives {
			if h.Exists() && len(all) < mostKnown {
				all = append(all, manual.Choice{Word: h.Name, What: h.Scope})
			}
		}
	}
	return all
}

// localTables are those of an archive, as a store that is a folder of this machine has it.
func (a *app) localTables(ctx context.Context, cfg *config.Config, words, given []string) (all []manual.Choice) {
	if len(given) == 0 {
		return nil
	}
	for _, name := range cfg.SiteNames() {
		one := cfg.Sites[name]
		one.Stores = slices.DeleteFunc(slices.Clone(one.Stores), func(store string) bool { return cfg.Stores[store].Folder == "" })
		cfg.Sites[name] = one
	}
	if !a.localHistory(ctx, cfg, words) {
		return nil
	}
	h, err := a.jobs.Find(ctx, given[0], time.Time{})
	if err != nil {
		return nil
	}
	held, err := a.jobs.Show(ctx, h)
	if err != nil {
		return nil
	}
	for _, t := range held.Tables {
		all = append(all, manual.Choice{Word: t.Table})
	}
	return all
}

// localRuns are the numbers of runs.
func (a *app) localRuns(ctx context.Context, cfg *config.Config, words []string) (all []manual.Choice) {
	if !a.localHistory(ctx, cfg, words) {
		return nil
	}
	runs, err := a.jobs.History.Runs(ctx, history.RunFilter{Most: 50})
	if err != nil {
		return nil
	}
	for _, r := range runs {
		all = append(all, manual.Choice{Word: strconv.FormatInt(r.ID, 10), What: r.Command + " " + r.Site})
	}
	return all
}
