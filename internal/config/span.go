package config

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// spans are the units that a span of time is given in; a month is 30 days.
var spans = map[string]time.Duration{
	"second": time.Second, "minute": time.Minute, "hour": time.Hour,
	"day": 24 * time.Hour, "week": 7 * 24 * time.Hour, "month": 30 * 24 * time.Hour, "year": 365 * 24 * time.Hour,
}

// ParseSpan reads a span of time such as `90 seconds` or `2 weeks`.
func ParseSpan(phrase string) (time.Duration, error) {
	words := strings.Fields(phrase)
	if len(words) == 2 {
		n, err := strconv.Atoi(words[0])
		unit, ok := spans[strings.TrimSuffix(words[1], "s")]
		if err == nil && ok && n > 0 && n <= 1000 {
			return time.Duration(n) * unit, nil
		}
	}
	return 0, fmt.Errorf("%q is no span of time such as `90 seconds`, `30 days` or `2 weeks`", phrase)
}

// ParseEvery reads `every 30 days`, or `every day`.
func ParseEvery(phrase string) (time.Duration, error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(phrase), "every ")
	if ok && len(strings.Fields(rest)) == 1 {
		rest = "1 " + rest
	}
	d, err := ParseSpan(rest)
	if !ok || err != nil {
		return 0, fmt.Errorf("%q is no rhythm such as `every 30 days`", phrase)
	}
	return d, nil
}
