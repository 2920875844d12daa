package svn

import (
	"context"
	"regexp"
	"strings"

	"dorvik.dev/dorvik/internal/vcs"
)

// The properties bugtraq:… of a folder say how messages name tasks. Several programs for Subversion read them. They
// count where the settings of Dorvik say nothing.

const (
	bugtraqMessage = "bugtraq:message"       // a line with %BUGID%, such as “Task: %BUGID%”
	bugtraqPattern = "bugtraq:logregex"      // one expression for the task, or a second line for it within the first
	bugtraqNumber  = "bugtraq:number"        // false if tasks have other signs than numbers
	bugtraqWanted  = "bugtraq:warnifnoissue" // true if each message is to name one
	bugtraqID      = "%BUGID%"
)

// project reads a setting from the properties of the top folder.
func (r *lines) project(ctx context.Context, key string) (string, error) {
	s, err := r.recent(ctx)
	if err != nil {
		return "", err
	}
	props := s.props[""]
	message := strings.TrimSpace(props[bugtraqMessage])
	switch key {
	case "dorvik.referenceWanted":
		return strings.TrimSpace(props[bugtraqWanted]), nil
	case "dorvik.taskForm":
		if strings.Contains(message, bugtraqID) {
			return strings.ReplaceAll(message, bugtraqID, vcs.TaskHere), nil
		}
	case "dorvik.reference":
		if lines := linesOf(props[bugtraqPattern]); len(lines) > 0 {
			return strings.TrimSpace(lines[len(lines)-1]), nil
		}
		if before, after, ok := strings.Cut(message, bugtraqID); ok {
			sign := `[0-9]+`
			if strings.TrimSpace(props[bugtraqNumber]) == "false" {
				sign = `[^\s,]+`
			}
			return `(?i)` + regexp.QuoteMeta(before) + `(` + sign + `)` + regexp.QuoteMeta(after), nil
		}
	}
	return "", nil
}

// ofProject lists the settings that properties can say.
var ofProject = map[string]bool{"dorvik.reference": true, "dorvik.referenceWanted": true, "dorvik.taskForm": true}

// Config returns a setting, or what the project's properties say of it.
func (r *lines) Config(ctx context.Context, key string) (string, error) {
	said, err := r.settings.Config(ctx, key)
	if said == "" && err == nil && ofProject[key] {
		return r.project(ctx, key)
	}
	return said, err
}

// Flag returns a boolean, or what the project's properties say of it.
func (r *lines) Flag(ctx context.Context, key string) (bool, error) {
	if ofProject[key] {
		if said, err := r.settings.Config(ctx, key); said == "" && err == nil {
			said, err := r.project(ctx, key)
			return said == "true" || said == "yes", err
		}
	}
	return r.settings.Flag(ctx, key)
}
