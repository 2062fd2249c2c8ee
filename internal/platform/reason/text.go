package reason

import "strings"

// Text is an error's text in which a line ends only where errors were joined (errors.Join): what others have a part in, such as a
// server's words or the name of a file, makes no line of its own, for nobody could tell it from what is said here.
func Text(err error) string {
	if err == nil {
		return ""
	}
	text := err.Error()
	if !strings.Contains(text, "\n") {
		return text
	}
	var inner []error
	switch e := err.(type) {
	case interface{ Unwrap() []error }:
		inner = e.Unwrap()
	case interface{ Unwrap() error }:
		inner = []error{e.Unwrap()}
	}
	var b strings.Builder
	for i, one := range inner {
		if one == nil {
			continue
		}
		its := one.Error()
		before, after, found := strings.Cut(text, its)
		if !found || its == "" {
			continue
		}
		if i > 0 && before == "\n" {
			b.WriteString(before)
		} else {
			b.WriteString(oneLine(before))
		}
		b.WriteString(Text(one))
		text = after
	}
	b.WriteString(oneLine(text))
	return b.String()
}

func oneLine(s string) string { return strings.ReplaceAll(s, "\n", `\n`) }
