package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/git"
	"dorvik.dev/dorvik/internal/hostapi"
	"dorvik.dev/dorvik/internal/vcs"
)

// Orla is nobody of the crew. She has a fork.
var Orla = Person{"Orla Finn", "orla@skerry.example"}

// put is a branch that somebody put forward.
type put struct {
	who    Person
	branch string
	fork   bool
	old    bool // it begins before the crew's last commits
	title  string
	steps  []step
}

// harbour adds a line at the end of the list of harbours, where everybody adds theirs.
func harbour(name string) change {
	const last = "- Holm, pier, all vehicles, April to September\n"
	return change{"docs/harbours.md", last, last + "- " + name + "\n"}
}

// puts are the proposals that wait at the host, oldest first.
var puts = []put{
	{Ilka, "summer", false, false, "Summer timetable", []step{{Ilka, 60*48 + 170, "Summer timetable", []change{
		{"timetable/summer.go", "", `package timetable

// Summer is the timetable from April to September.
func Summer() []Sailing {
	tern := Ship{Name: "Tern", Draught: 1.6}
	return []Sailing{
		{Ship: tern, From: "Brae", Departs: 390},
		{Ship: tern, From: "Eid", Departs: 475},
	}
}
`}}}}},
	{Mato, "muness", false, false, "Muness has a slip", []step{{Mato, 60*48 + 180, "Add Muness to the harbour list",
		[]change{harbour("Muness, slip, foot passengers")}}}},
	{Runa, "half-metres", false, true, "Vans pay by the half metre", yours},
	{Orla, "skaill", true, false, "Add Skaill", []step{{Orla, 60*48 + 200, "Add Skaill to the harbour list",
		[]change{harbour("Skaill, pier, cars only")}}}},
	{Orla, "voe", true, false, "Add Voe", []step{{Orla, 60*48 + 210, "Add Voe to the harbour list",
		[]change{harbour("Voe, slip, foot passengers")}}}},
	{Orla, "depth", true, true, "Print the depth at the pier", []step{{Orla, 60*48 + 90,
		"Print the depth at the pier", []change{{"timetable/depth.go", "", `package timetable

import "fmt"

// Depth is what the board says of the water at the pier when the ship sails.
func (s Sailing) Depth() string {
	return fmt.Sprintf("%.1f m", DepthAt(s.From, s.Departs))
}
`}}}}},
}

// users are the accounts, by name. Their passwords are their user names: this host is for the demo.
var users = map[string]Person{"runa": Runa, "ilka": Ilka, "mato": Mato, "orla": Orla}

// Serve starts to serve the host of a folder, and returns its address, such as http://127.0.0.1:8080.
type Serve func(dir string) (address string, err error)

// MakeHosted creates the scene at a stand-in host, which serve starts: main is protected, proposals of the crew and of
// a fork wait, and yours cannot be joined.
func MakeHosted(ctx context.Context, dir string, serve Serve) (*Scene, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s is not empty; give a folder that is, or none", dir)
	}
	there := filepath.Join(dir, "host")
	for _, name := range []string{"skerry", "orla-skerry"} {
		if err := git.InitBare(filepath.Join(there, name+".git")); err != nil {
			return nil, err
		}
	}
	o := object.NewOverlay(object.SHA1, nil)
	tips, err := fillHost(ctx, o, there)
	if err != nil {
		return nil, err
	}
	address, err := serve(there)
	if err != nil {
		return nil, err
	}
	scene := &Scene{Clone: filepath.Join(dir, "skerry"), Remote: filepath.Join(there, "skerry.git"),
		Host: address + "/skerry"}
	for _, c := range []struct {
		user, folder, branch string
	}{{"runa", scene.Clone, "half-metres"}, {"ilka", filepath.Join(dir, "ilka"), "summer"},
		{"mato", filepath.Join(dir, "mato"), "muness"}} {
		remote := strings.Replace(address, "://", "://"+c.user+":"+c.user+"@", 1) + "/skerry.git"
		if err := cloneHosted(ctx, o, remote, users[c.user], c.folder, c.branch, tips[c.branch],
			tips["main"]); err != nil {
			return nil, err
		}
		if c.user != "runa" {
			scene.Teammates = append(scene.Teammates, Clone{users[c.user].Name, c.folder})
		}
	}
	return scene, listTasks(ctx, dir, scene.Clone, rows[Git].set)
}

// settings describe the host of the scene.
func settings() (set hostapi.Settings) {
	for _, user := range slices.Sorted(maps.Keys(users)) {
		p := users[user]
		set.People = append(set.People, hostapi.Person{User: user, Name: p.Name, Email: p.Email, Password: user})
	}
	set.Repositories = []hostapi.RepositorySettings{
		{Name: "skerry", Rules: hostapi.Rules{Maintainers: []string{"runa", "ilka"}, Protected: []string{"main"},
			Check: "go build ./...", MostBytes: 1 << 20}},
		{Name: "orla-skerry", Of: "skerry", Owner: "orla"}}
	return set
}

// fillHost makes the commits, the branches, the proposals and the settings in the folder of the host. It returns the
// tips of the branches.
func fillHost(ctx context.Context, o *object.Overlay, dir string) (tips map[string]object.ID, err error) {
	base, err := line(o, object.ID{}, shared)
	if err != nil {
		return nil, err
	}
	parted := base[len(base)-1]
	crew, err := line(o, parted, theirs)
	if err != nil {
		return nil, err
	}
	tips = map[string]object.ID{"main": crew[len(crew)-1]}
	here := []vcs.RefUpdate{{Name: "refs/heads/main", New: tips["main"]}}
	fork := slices.Clone(here)
	var list []hostapi.Proposal
	for i, p := range puts {
		from := tips["main"]
		if p.old {
			from = parted
		}
		ids, err := line(o, from, p.steps)
		if err != nil {
			return nil, err
		}
		tip := ids[len(ids)-1]
		tips[p.branch] = tip
		one := hostapi.Proposal{Number: i + 1, Title: p.title, From: p.branch, Into: "main", By: p.who.Name,
			State: hostapi.Waiting, Tip: tip.String(), Ref: hostapi.RefOf(i+1, "main"),
			Opened: time.Now().UTC().Add(time.Duration(i-len(puts)) * 7 * time.Hour).Truncate(time.Second)}
		branch := vcs.RefUpdate{Name: "refs/heads/" + p.branch, New: tip}
		if p.fork {
			one.Fork, fork = "orla-skerry", append(fork, branch)
		} else {
			here = append(here, branch)
		}
		here, list = append(here, vcs.RefUpdate{Name: one.Ref, New: tip}), append(list, one)
	}
	for name, v := range map[string]any{hostapi.SettingsFile: settings(), "skerry.git/" + hostapi.ProposalsFile: list} {
		data, err := json.MarshalIndent(v, "", "  ")
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), data, 0o600)
		}
		if err != nil {
			return nil, err
		}
	}
	return tips, errors.Join(fillBare(ctx, o, filepath.Join(dir, "skerry.git"), here),
		fillBare(ctx, o, filepath.Join(dir, "orla-skerry.git"), fork))
}

// fillBare adds refs and their objects to a bare repository.
func fillBare(ctx context.Context, o *object.Overlay, dir string, refs []vcs.RefUpdate) error {
	repo := git.At(dir)
	defer repo.Close()
	var roots []object.ID
	for _, r := range refs {
		roots = append(roots, r.New)
	}
	if err := repo.Keep(ctx, o, roots...); err != nil {
		return err
	}
	defer repo.LetPacksGo(ctx)
	return repo.UpdateRefs(ctx, "begin", refs...)
}

// cloneHosted makes a clone that is on a person's branch, and has main too.
func cloneHosted(ctx context.Context, o *object.Overlay, remote string, who Person, folder, branch string, tip,
	main object.ID) error {
	if err := git.InitClone(folder, remote, branch, who.Name, who.Email); err != nil {
		return err
	}
	if err := fill(ctx, o, folder, vcs.RefUpdate{Name: "refs/heads/" + branch, New: tip},
		vcs.RefUpdate{Name: "refs/remotes/origin/main", New: main},
		vcs.RefUpdate{Name: "refs/heads/main", New: main}); err != nil {
		return err
	}
	repo := git.At(filepath.Join(folder, ".git"))
	defer repo.Close()
	if err := repo.UpdateRefs(ctx, "update by push", vcs.RefUpdate{Name: "refs/remotes/origin/" + branch,
		New: tip}); err != nil { // git's words for a branch that was pushed from here
		return err
	}
	if err := repo.Follow(ctx, "main", "origin", "refs/heads/main"); err != nil {
		return err
	}
	return repo.SetHead(ctx, branch, object.ID{}, "clone")
}
