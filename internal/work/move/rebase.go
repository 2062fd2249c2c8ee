package move

import (
	"net/url"
	"regexp"
	"strings"
)

var (
	rewriteBase = regexp.MustCompile(`(?mi)^([ \t]*RewriteBase[ \t]+)(\S+)`)
	rewriteRule = regexp.MustCompile(`(?mi)^([ \t]*RewriteRule[ \t]+\S+[ \t]+)(/\S*)`)
	errorPage   = regexp.MustCompile(`(?mi)^([ \t]*ErrorDocument[ \t]+\d+[ \t]+)(/\S*)`)
)

// rebase changes the paths in an .htaccess file that begin with the path of the site's old
// address (Apache's documentation of mod_rewrite, RewriteBase). n counts them.
func (p *Plan) rebase(text string) (out string, n int) {
	from, to := basePath(p.archive.Origin.Address), basePath(p.to.Address)
	if from == to {
		return text, 0
	}
	for _, directive := range []*regexp.Regexp{rewriteBase, rewriteRule, errorPage} {
		text = directive.ReplaceAllStringFunc(text, func(line string) string {
			m := directive.FindStringSubmatch(line)
			rest, ok := strings.CutPrefix(m[2], from)
			if !ok && m[2]+"/" == from {
				rest, ok = "", true
			}
			if !ok {
				return line
			}
			n++
			return m[1] + to + rest
		})
	}
	return text, n
}

// basePath is the path of an address, with a slash at both ends.
func basePath(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "/"
	}
	if trimmed := strings.Trim(u.Path, "/"); trimmed != "" {
		return "/" + trimmed + "/"
	}
	return "/"
}
