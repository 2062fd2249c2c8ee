package move

import (
	"context"
	"fmt"
	"strings"

	"revlet/internal/platform/disk"
	"revlet/internal/platform/reason"
	"revlet/internal/work/restore"
)

// This file moves what has changed since an earlier archive of the same site was moved.

// Again is Moving for a share of the files, all of which come AsItIs, into a tree that was moved from an
// earlier archive. Its settings were changed then; that they lead to the databases of the new place is
// made sure of again.
func (p *Plan) Again() *restore.Moving {
	m := p.Moving()
	m.Staged = p.stillLeads
	return m
}

// AsItIs tells whether a file of the archive is at the new place as it was at the old one, whatever it
// says. What lies at the top of the webroot, and what the recipe names, may be changed on its way.
func (p *Plan) AsItIs(rel string) bool {
	if p.sub != nil || p.copy || !strings.Contains(rel, "/") {
		return false
	}
	return p.recipe == nil || !p.recipe.Names(rel) && rel != p.to.SettingsFile
}

// stillLeads makes sure that the settings in a tree lead to the databases of the new place.
func (p *Plan) stillLeads(ctx context.Context, trees map[string]*disk.Root) error {
	if p.recipe == nil {
		return nil
	}
	leads, err := p.recipe.Leads(p.to.PathAt(p.to.Root), p.to.SettingsFile, p.reading(ctx, trees))
	if err != nil {
		return reason.Because(reason.SettingsByHand, nil, err)
	}
	for label, db := range leads {
		for _, to := range p.to.AsThere() {
			if to.Label == label && to.Where() != db.Where() {
				return fmt.Errorf("the settings at the new place lead to %s, not to %s", db.Where(), to.Where())
			}
		}
	}
	return nil
}
