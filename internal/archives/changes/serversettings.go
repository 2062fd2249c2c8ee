package changes

import (
	"io"
	"path"
	"slices"
	"strings"
)

// ServerSettings are files that change how a web server treats the folder that they are in.
var ServerSettings = []string{".htaccess", ".user.ini", "web.config", "php.ini"}

// makesRun tells whether a file is of settings that may make a web server run what it would only send: a handler for
// pictures, a script before each page. What programs write into folders of uploads to forbid just that is not.
func (j Judge) makesRun(name string) bool {
	base := strings.ToLower(path.Base(name))
	if !slices.Contains(ServerSettings, base) || j.Open == nil {
		return false
	}
	f, err := j.Open(name)
	if err != nil {
		return true // nobody knows
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, Sample))
	if err != nil || len(text) == Sample {
		return true
	}
	return !harmless(base, string(text))
}

// harmlessDirectives are those of Apache's .htaccess that make nothing run, whatever follows them. Those that set
// variables are not among them: PHP takes its own settings out of some.
var harmlessDirectives = []string{"order", "allow", "deny", "require", "satisfy", "header", "expiresactive", "expiresbytype", "expiresdefault", "fileetag",
	"removehandler", "removetype", "adddefaultcharset", "addcharset", "addencoding", "indexignore", "indexoptions", "rewriteengine", "rewritebase", "rewritecond", "authtype", "authname",
	"authuserfile"}

// harmlessSections are what directives may stand in.
var harmlessSections = []string{"ifmodule", "files", "filesmatch", "limit", "limitexcept", "requireall", "requireany", "requirenone"}

// harmlessTypes are beginnings of media types that are sent as they are, and handlers that send.
var harmlessTypes = []string{"none", "default-handler", "text/plain", "image/", "audio/", "video/", "font/", "application/octet-stream", "application/pdf", "application/font"}

// harmlessRewrites are flags of a RewriteRule that send somebody elsewhere, or away.
var harmlessRewrites = []string{"f", "forbidden", "g", "gone", "l", "last", "end", "nc", "nocase", "ne", "noescape", "qsa", "qsd", "r"}

// harmless tells whether every line of settings is known to make nothing run. Of other files than .htaccess only
// comments are.
func harmless(base, text string) bool {
	text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\\\n", " ")
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		comment := strings.HasPrefix(line, "#") || base != ".htaccess" && strings.HasPrefix(line, ";")
		if line == "" || comment {
			continue
		}
		if base != ".htaccess" || !harmlessLine(line) {
			return false
		}
	}
	return true
}

func harmlessLine(line string) bool {
	words := strings.Fields(strings.ToLower(line))
	name, rest := words[0], words[1:]
	if section, ok := strings.CutPrefix(name, "<"); ok {
		// Nothing may follow on the line that a section begins with.
		return strings.Index(line, ">") == len(line)-1 && slices.Contains(harmlessSections, strings.Trim(section, "/>"))
	}
	switch name {
	case "options":
		return !slices.ContainsFunc(rest, func(o string) bool {
			return !strings.HasPrefix(o, "-") && !slices.Contains([]string{"none", "indexes", "followsymlinks", "symlinksifownermatch", "multiviews"}, strings.TrimPrefix(o, "+"))
		})
	case "php_flag", "php_admin_flag":
		return len(rest) == 2 && rest[0] == "engine" && slices.Contains([]string{"off", "0"}, rest[1])
	case "sethandler", "forcetype", "addtype", "addhandler":
		return len(rest) > 0 && slices.ContainsFunc(harmlessTypes, func(t string) bool { return strings.HasPrefix(strings.Trim(rest[0], `"'`), t) })
	case "rewriterule":
		_, flags, has := strings.Cut(line[strings.LastIndex(line, " ")+1:], "[")
		return !has && !strings.Contains(line, "[") || has && !slices.ContainsFunc(strings.Split(strings.ToLower(strings.TrimSuffix(flags, "]")), ","), func(f string) bool {
			flag, _, _ := strings.Cut(f, "=")
			return !slices.Contains(harmlessRewrites, flag)
		})
	}
	return slices.Contains(harmlessDirectives, name)
}
