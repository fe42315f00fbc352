package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"tugline/internal/cache"
	"tugline/internal/engine"
	"tugline/internal/plan"
	"tugline/internal/project"
)

// Jobs returns how many steps of a request run at once.
func (s *Session) Jobs(r Request) int { return cmp.Or(r.Jobs, s.Project.Jobs, runtime.NumCPU()) }

// PlanRequest returns a request as package plan takes it, with all that only the
// world knows. What it starts ends with the session. The error is an
// [*InputError] if an env file of the user's cannot be used.
func (s *Session) PlanRequest(ctx context.Context, r Request) (plan.Request, error) {
	settings, err := s.userEnvFiles(r.EnvFiles)
	req := plan.Request{
		Calls: r.Calls, Jobs: s.Jobs(r), Run: s.cfg.Run, Env: s.cfg.Vars, Set: r.Set, From: s.cfg.From, Base: s.Base, OS: runtime.GOOS, Arch: runtime.GOARCH,
		Files: settings, EnvFiles: s.envFiles, Secrets: s.cfg.Mask, IsFolder: s.isFolder, NoCompute: r.NoCompute, Changed: r.Changed, Listed: s.Ledger.Listed,
		List: func(l plan.Listed) ([]string, error) { return s.list(ctx, l) },
	}
	if !r.NoCompute {
		req.Compute = s.compute(ctx)
	}
	return req, err
}

// Plan returns the plan of a request. The errors are those of [plan.New] and of
// PlanRequest.
func (s *Session) Plan(ctx context.Context, r Request) (*plan.Plan, error) {
	req, err := s.PlanRequest(ctx, r)
	if err != nil {
		return nil, err
	}
	s.planning.Store(true)
	defer s.planning.Store(false)
	return plan.New(s.Project, req)
}

// Preview returns what a run of a request would do, without doing it.
func (s *Session) Preview(ctx context.Context, r Request) (cache.Preview, error) {
	pl, err := s.Plan(ctx, r)
	if err != nil {
		return cache.Preview{}, err
	}
	if _, err := engine.Prepare(pl); err != nil {
		return cache.Preview{}, err
	}
	return s.resumed(pl, r).Preview(ctx, pl)
}

// resumed returns the cache for a plan of a request, which knows what was done in
// the run that is resumed, if any.
func (s *Session) resumed(pl *plan.Plan, r Request) *cache.Cache {
	c := s.Cache(r)
	if r.Resume != nil {
		done := engine.ResumedFrom(pl, *r.Resume)
		c.Resumed, c.Expanded = done.Finished, done.Review
	}
	return c
}

// isFolder reports whether a path of the project is a folder, or was made one by a run.
func (s *Session) isFolder(path string) bool {
	info, err := os.Stat(filepath.Join(s.Project.Folder, filepath.FromSlash(path)))
	return err == nil && info.IsDir() || s.Ledger.IsFolder(path)
}

// envFiles reads the env files that a project file names.
func (s *Session) envFiles(f *project.File) ([]project.Settings, error) {
	var all []project.Settings
	var missing project.Diagnostics
	for _, file := range f.EnvFiles {
		path := file.Path.Value
		if !filepath.IsAbs(path) {
			path = filepath.Join(f.Folder, path)
		}
		settings, err := s.envFile(path)
		switch {
		case errors.Is(err, fs.ErrNotExist) && file.MustExist:
			missing = append(missing, project.Diagnostic{Span: file.Path.Span, Msg: fmt.Sprintf("the env file %q does not exist", file.Path.Value)})
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		default:
			all = append(all, settings)
		}
	}
	if len(missing) > 0 {
		return nil, &engine.MissingError{Diagnostics: missing}
	}
	return all, nil
}

// userEnvFiles reads the env files that a request names.
func (s *Session) userEnvFiles(paths []string) ([]project.Settings, error) {
	var all []project.Settings
	for _, path := range paths {
		settings, err := s.envFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &InputError{fmt.Sprintf("the env file %q does not exist", s.cfg.Shown(path))}
		}
		if err != nil {
			return nil, err
		}
		all = append(all, settings)
	}
	return all, nil
}

func (s *Session) envFile(path string) (project.Settings, error) {
	s.sources.addFile(path)
	text, err := os.ReadFile(path)
	if err != nil {
		return project.Settings{}, fmt.Errorf("reading an env file: %w", err)
	}
	settings, err := project.ParseEnvFile(s.cfg.Shown(path), text)
	if good, known := s.goodEnv[path]; err != nil && known {
		s.cfg.Warn(err.Error() + "; what it held before stays in force")
		return good, nil
	}
	if err != nil {
		return project.Settings{}, &InputError{err.Error()}
	}
	if s.goodEnv == nil {
		s.goodEnv = map[string]project.Settings{}
	}
	s.goodEnv[path] = settings
	return settings, nil
}

// compute returns how to find the value of a computed variable: a file's text,
// or what a script prints, both in the folder of the file that declares it.
func (s *Session) compute(ctx context.Context) func(*project.Var, []string, string) (string, error) {
	return func(v *project.Var, env []string, file string) (string, error) {
		if v.Run.Value != "" {
			defer s.working("computing " + v.Name)()
			out, err := engine.Output(ctx, s.shell.Run, v.Run, env, v.Span.Source.Folder(), s.cfg.Grace)
			return strings.TrimRight(out, "\r\n"), err
		}
		if !filepath.IsAbs(file) {
			file = filepath.Join(v.Span.Source.Folder(), file)
		}
		text, err := s.read(file)
		return strings.TrimSpace(text), err
	}
}

// working tells what a script computes while a plan is made.
func (s *Session) working(what string) (done func()) {
	if s.cfg.Working == nil || !s.planning.Load() {
		return func() {}
	}
	return s.cfg.Working(s.cfg.Mask.Text(what))
}

func firstLine(script string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(script), "\n")
	return first
}

// list finds the values of a list. It may be called from many goroutines.
func (s *Session) list(ctx context.Context, l plan.Listed) ([]string, error) {
	switch {
	case l.Run.Value != "":
		defer s.working("listing with " + firstLine(l.Run.Value))()
		out, err := engine.Output(ctx, s.shell.Run, l.Run, l.Env, l.Folder, s.cfg.Grace)
		return project.Lines(out, false), err
	case l.Lines != "":
		path := l.Lines
		if !filepath.IsAbs(path) {
			path = filepath.Join(l.Folder, path)
		}
		text, err := s.read(path)
		return project.Lines(text, true), err
	}
	paths, err := cache.Paths(s.Files(), l.Globs)
	s.sources.addGlobs(l.Globs, paths)
	return paths, err
}

// read returns the text of a file; the error names it as the user would.
func (s *Session) read(path string) (string, error) {
	s.sources.addFile(path)
	text, err := os.ReadFile(path)
	var bad *fs.PathError
	if errors.As(err, &bad) {
		return "", fmt.Errorf("reading %s: %w", s.cfg.Shown(path), bad.Err)
	}
	return string(text), err
}
