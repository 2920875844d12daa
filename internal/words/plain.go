package words

import (
	"fmt"
	"strings"
	"time"
	"unicode"
)

// Count formats a number of things: "1 commit", "3 commits".
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Is returns the singular or the plural for a count.
func Is(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// List joins names: "a, b and c". An empty list is "nobody".
func List(names []string) string {
	switch n := len(names); n {
	case 0:
		return "nobody"
	case 1:
		return names[0]
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}

// Some returns the first n names and the number of the others.
func Some(names []string, n int) []string {
	if len(names) <= n {
		return names
	}
	return append(append([]string(nil), names[:n]...), fmt.Sprintf("%d more", len(names)-n))
}

// Sentence makes an error's text or a clause a sentence.
func Sentence(s string) string {
	if s != "" && !strings.ContainsAny(s[len(s)-1:], ".?!") {
		s += "."
	}
	return Upper(s)
}

// Upper capitalises the first letter.
func Upper(s string) string {
	r := []rune(s)
	if len(r) > 0 {
		r[0] = unicode.ToUpper(r[0])
	}
	return string(r)
}

// Ago describes a time by its distance from now.
func Ago(now, then time.Time) string {
	d := now.Sub(then)
	switch {
	case d < 0:
		return then.Format("2 Jan 2006")
	case d < 5*time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	case d < 60*24*time.Hour:
		return fmt.Sprintf("%d days ago", int(d.Hours()/24))
	case then.Year() == now.Year():
		return then.Format("2 Jan")
	}
	return then.Format("2 Jan 2006")
}

// Seconds formats a duration.
func Seconds(d time.Duration) string {
	if d < 10*time.Second {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}

// First returns the first word of a name. "you, on another machine" stays whole.
func First(name string) string {
	if strings.HasPrefix(name, "you") {
		return name
	}
	f, _, _ := strings.Cut(name, " ")
	return f
}

// If returns yes or no by a condition.
func If(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

// OneLine replaces line ends by blanks.
func OneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// Nth formats an ordinal: 1st, 2nd, 3rd, 4th, 11th, 21st.
func Nth(n int) string {
	end := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			end = "st"
		case 2:
			end = "nd"
		case 3:
			end = "rd"
		}
	}
	return fmt.Sprint(n) + end
}
