package archive

import (
	"maps"
	"path"
	"slices"
	"strings"
)

// SetReal notes where a folder of the site lay, links on the way to it resolved.
func (o *Origin) SetReal(label, dir string) {
	if named, ok := o.Roots[label]; !ok || dir == named || !folderPath(dir) {
		return
	}
	if o.Real == nil {
		o.Real = map[string]string{}
	}
	o.Real[label] = dir
}

// LinkTo is where a link of the site led, by its name in the list: to a name in the list, "" where it led out of what the
// archive holds.
func (o *Origin) LinkTo(name, target string) string {
	label, rel, _ := strings.Cut(name, "/")
	to := path.Clean(target)
	if !path.IsAbs(target) {
		dir := o.Roots[label]
		if real := o.Real[label]; real != "" {
			dir = real
		}
		if dir == "" { // nothing is known of it: it leads somewhere in its own folder, or out
			dir = "/" + label
		}
		to = path.Join(dir, path.Dir(rel), target)
		if rest, ok := below(dir, to); ok {
			return path.Join(label, rest)
		}
	}
	found, longest := "", 0
	for _, dirs := range []map[string]string{o.Real, o.Roots} {
		for label, dir := range dirs {
			if rest, ok := below(dir, to); ok && len(dir) > longest && label != aboveLabel {
				found, longest = path.Join(label, rest), len(dir)
			}
		}
	}
	return found
}

// Others are the labels of a site's folders beside the webroot, whose label is root, in order.
func (o *Origin) Others(root string) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(o.Roots)), func(label string) bool { return label == root || label == aboveLabel })
}

// aboveLabel is that of a settings file above the webroot, of which the archive holds the settings only.
const aboveLabel = "above"

// below is what is left of a path in a folder.
func below(dir, name string) (rest string, ok bool) {
	if name == dir {
		return "", true
	}
	return strings.CutPrefix(name, strings.TrimSuffix(dir, "/")+"/")
}
