package cache

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"tugline/internal/files"
	"tugline/internal/glob"
	"tugline/internal/history"
	"tugline/internal/plan"
	"tugline/internal/project"
	"tugline/internal/store"
)

// Begin makes the folders of what a step writes, and notes that it starts. What
// stands in the place of an output of its last good run, and is a folder where
// that was a file or the other way round, is moved aside: aside tells where to.
func (c *Cache) Begin(s *plan.Step, v *Decision) (aside string, err error) {
	root, err := os.OpenRoot(c.Top)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if s.Task.ClearWrites {
		if err := c.clearWrites(s); err != nil {
			return "", err
		}
	}
	for _, g := range s.Writes {
		if g.Not {
			continue
		}
		moved, err := c.clearWay(root, s, g)
		if moved {
			aside = c.aside()
		}
		if err == nil {
			err = makeFolder(root, g)
		}
		if err != nil {
			return aside, err
		}
	}
	if v.present, err = matchOutputs(s.Writes, c.Files); err != nil {
		return aside, err
	}
	if s.Depfile != "" {
		v.depfile = files.LookAt(s.Depfile)
		if err := os.MkdirAll(filepath.Dir(s.Depfile), 0o777); err != nil {
			return aside, fmt.Errorf("making the folder of the depfile: %w", err)
		}
	}
	if err = c.Ledger.Begin(s.ID(), v.now.Sum, history.Started); err == nil && s.Depfile != "" {
		err = c.awaitTick(s, v)
	}
	return aside, err
}

// clearWrites removes what the last good run of a step left, as it left it: not what it
// reads as well, nor what stood beside its outputs.
func (c *Cache) clearWrites(s *plan.Step) error {
	record, found := c.Ledger.Read(s.ID())
	if !found {
		return nil
	}
	made, err := c.made(record, nil)
	if err == nil && len(made.Paths) > 0 {
		_, err = c.Sweep(made.Paths)
	}
	if err != nil {
		return fmt.Errorf("clearing what its last run wrote: %w", err)
	}
	return nil
}

// makeFolder makes the folder of what a pattern of writes means.
func makeFolder(root *os.Root, g plan.Glob) error {
	folder, plain := glob.Base(g.Pattern)
	if plain && !g.Folder {
		folder = path.Dir(folder)
	}
	if folder == "" || folder == "." {
		return nil
	}
	err := root.MkdirAll(filepath.FromSlash(folder), 0o777)
	if leadsOut(err) {
		return &OutputError{g.Text, fmt.Sprintf("%s leads out of the project: a link stands in its way", g.Text.Value)}
	}
	if err != nil {
		return fmt.Errorf("making the folder of %q: %w", g.Text.Value, err)
	}
	return nil
}

// clearWay moves aside what stands in the place of what a pattern of writes means
// without wildcards, if the last good run left something of another kind there.
func (c *Cache) clearWay(root *os.Root, s *plan.Step, g plan.Glob) (moved bool, err error) {
	name, plain := glob.Base(g.Pattern)
	if !plain || name == "" || name == "." {
		return false, nil
	}
	info, err := root.Lstat(filepath.FromSlash(name))
	if err != nil || info.Mode()&fs.ModeSymlink != 0 || !info.IsDir() && !g.Folder {
		return false, nil // nothing stands there, or a file that is written anew
	}
	record, _ := c.Ledger.Read(s.ID()) // without one nothing is known
	for _, f := range record.Outputs {
		wasFile := f.Path == name && f.Mark != folderMark
		wasFolder := f.Path == name && f.Mark == folderMark || strings.HasPrefix(f.Path, name+"/")
		if info.IsDir() && wasFile || !info.IsDir() && wasFolder {
			if info.IsDir() && root.Remove(filepath.FromSlash(name)) == nil {
				return false, nil // it was empty
			}
			return true, store.MoveAside(root, name, c.aside())
		}
	}
	return false, nil
}

// folderMark is the mark of an empty folder in a record.
var folderMark = markOf(files.Found{Kind: files.Folder})

// leadsOut reports whether something was refused because it lies outside of an
// [os.Root], an error that has no name.
func leadsOut(err error) bool {
	for refused := (*os.PathError)(nil); errors.As(err, &refused); {
		err = refused.Err
	}
	return err != nil && err.Error() == "path escapes from parent"
}

// OutputError says that the outputs of a step are not, or cannot be, what it
// declares.
type OutputError struct {
	Text project.Text // the pattern
	Msg  string
}

func (e *OutputError) Error() string { return e.Msg }

// keptTexts is how many bytes of outputs are held at most between knowing what
// they are and putting them into the store.
const keptTexts = 32 << 20

// outputs returns what a step has written, for the store with its contents.
func (c *Cache) outputs(s *plan.Step, toStore bool) ([]files.Found, error) {
	if !toStore || len(s.Writes) == 0 {
		return matchOutputs(s.Writes, c.Files)
	}
	set, err := glob.Compile(plan.Patterns(s.Writes))
	if err != nil {
		return nil, err
	}
	return c.Files.Outputs(set, keptTexts)
}

// checkOutputs returns an [*OutputError] if a pattern of a step matches nothing,
// or an output lies outside the project.
func checkOutputs(s *plan.Step, root *os.Root, outputs []files.Found) error {
	inside := insider{root: root}
	for _, g := range s.Writes {
		if g.Not {
			continue
		}
		set, err := glob.Compile([]glob.Pattern{{Text: g.Pattern}})
		if err != nil {
			return err
		}
		matches := false
		for i := range outputs {
			if !set.Match(outputs[i].Path) {
				continue
			}
			matches = true
			if err := inside.check(&outputs[i]); leadsOut(err) {
				return &OutputError{g.Text, fmt.Sprintf("the output %s leads out of the project", outputs[i].Path)}
			} else if err != nil {
				return err
			}
		}
		if plain, ok := glob.Base(g.Pattern); !matches && ok {
			info, err := root.Lstat(filepath.FromSlash(plain))
			matches = err == nil && info.IsDir() // an empty folder
		}
		if !matches {
			return &OutputError{g.Text, fmt.Sprintf("succeeded but did not create %s, declared in writes", g.Text.Value)}
		}
	}
	return nil
}

// insider tells of files, folder by folder, whether they lie below root.
type insider struct {
	root   *os.Root
	folder string // the last one that was found to
}

// check returns an error if a file lies outside. What is no link lies where its
// folder does.
func (in *insider) check(f *files.Found) error {
	name := f.Path
	if f.Kind != files.Link {
		if name = path.Dir(name); name == in.folder {
			return nil
		}
	}
	_, err := in.root.Stat(filepath.FromSlash(name))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if f.Kind != files.Link {
		in.folder = name
	}
	return nil
}
