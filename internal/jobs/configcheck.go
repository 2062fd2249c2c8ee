package jobs

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"

	"github.com/dustin/go-humanize/english"

	"revlet/internal/config"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
	"revlet/internal/rules/schedule"
	"revlet/internal/site"
	"revlet/internal/work/preflight"
)

// CheckConfig looks for all that is wrong with a configuration file: what it says, and whether the recipes,
// folders, programs and secrets of this machine that it names are there, and nobody else's. No store, site or database is asked.
// keyed tells that the key of encrypted archives is at hand.
func CheckConfig(path string, keyed bool) []preflight.Finding {
	c := &configCheck{}
	cfg, problems := config.Problems(path)
	for _, err := range problems {
		c.add(preflight.Stop, "configuration", "%v", err)
	}
	if info, err := os.Stat(path); err == nil && disk.KeepsModes && info.Mode().Perm()&0o022 != 0 {
		c.add(preflight.Look, "configuration", "others than its owner may change %s, and so have this program do what they like; run: chmod go-w %s", path, process.ShellQuote(path))
	}
	if cfg == nil {
		return c.all
	}
	for _, warning := range cfg.Warnings {
		c.add(preflight.Look, "secrets", "%s", warning)
	}
	secrets := cfg.Secrets()
	for _, file := range slices.Sorted(maps.Keys(secrets)) {
		if f, err := os.Open(file); err != nil {
			c.add(preflight.Stop, "secrets", "%s cannot be read: %v", secrets[file], err)
		} else {
			_ = f.Close()
		}
	}
	for _, name := range slices.Sorted(maps.Keys(cfg.Stores)) {
		c.store(name, cfg, len(problems) == 0)
	}
	for _, name := range cfg.SiteNames() {
		c.site(name, cfg.Sites[name])
		c.runs(name, cfg.Sites[name].Commands)
		if d := cfg.Sites[name].Duties; cfg.Encrypt != nil && !keyed && slices.ContainsFunc(d, func(d schedule.Duty) bool { return d.Work == schedule.Rehearse }) {
			c.add(preflight.Look, "site "+name, "its duty `rehearse` needs the key of encrypted archives: whatever starts Revlet by itself has to give it as $REVLET_KEY_FILE; or leave that duty to a machine that has the key")
		}
	}
	if len(c.all) == 0 {
		c.add(preflight.Passed, "configuration", "%s is sound: %s, %s", path, english.Plural(len(cfg.Sites), "site", ""), english.Plural(len(cfg.Stores), "store", ""))
	}
	return c.all
}

type configCheck struct{ all []preflight.Finding }

func (c *configCheck) add(level preflight.Level, about, format string, args ...any) {
	c.all = append(c.all, preflight.Finding{Level: level, About: about, Text: fmt.Sprintf(format, args...)})
}

// folder makes sure that a folder is there.
func (c *configCheck) folder(level preflight.Level, about, what, dir string) {
	info, err := os.Stat(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.add(level, about, "%s, %s, is not there", what, dir)
	case err != nil:
		c.add(preflight.Stop, about, "%s cannot be looked at: %v", what, err)
	case !info.IsDir():
		c.add(preflight.Stop, about, "%s, %s, is no folder", what, dir)
	}
}

func (c *configCheck) store(name string, cfg *config.Config, whole bool) {
	if helper := cfg.Stores[name].Program; len(helper) > 0 {
		if err := process.Trusted(helper); err != nil {
			c.add(preflight.Stop, "stores", "the helper of store %s is not run: %v", name, err)
		}
	}
	if dir := cfg.Stores[name].Folder; dir != "" {
		c.folder(preflight.Look, "stores", "the folder of store "+name, dir)
	}
	used := func(site string) bool { return slices.Contains(cfg.Sites[site].Stores, name) }
	if whole && !slices.ContainsFunc(cfg.SiteNames(), used) {
		c.add(preflight.Look, "stores", "no site uses store %s", name)
	}
}

// runs looks at the commands that are run around a site's work.
func (c *configCheck) runs(name string, commands *config.Commands) {
	if commands == nil {
		return
	}
	for _, line := range []string{commands.Before, commands.After, commands.OnTrouble} {
		if line == "" {
			continue
		}
		if err := process.TrustedLine(line); err != nil {
			c.add(preflight.Stop, "site "+name, "a command is not run: %v", err)
		}
	}
}

func (c *configCheck) site(name string, cfg config.Site) {
	about := "site " + name
	if !cfg.Far() {
		c.folder(preflight.Stop, about, "its webroot", cfg.Root)
		for _, label := range slices.Sorted(maps.Keys(cfg.Roots)) {
			c.folder(preflight.Stop, about, "its folder "+label, cfg.Roots[label])
		}
	}
	if site.IsRecipeFile(cfg.Recipe) {
		if _, err := site.ReadRecipe(cfg.Recipe); err != nil {
			c.add(preflight.Stop, about, "its recipe: %v", err)
		}
	} else if cfg.Recipe != "" && cfg.Recipe != "auto" && cfg.Recipe != "none" {
		if _, err := site.RecipeNamed(cfg.Recipe); err != nil {
			c.add(preflight.Stop, about, "%v", err)
		}
	}
	if len(cfg.Stores) == 0 {
		c.add(preflight.Stop, about, "it has no store: its archives could go nowhere")
	}
}
