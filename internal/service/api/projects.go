package api

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/core/change"
	"grayloft.example/grayloft/internal/core/decl"
	"grayloft.example/grayloft/internal/core/graph"
	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
)

// projects answers what the newest recorded declarations contain.
func (s *Server) projects(c *gin.Context) {
	out := protocol.Projects{Projects: []protocol.ProjectRow{}}
	g := s.lastGraph(c)
	if g == nil {
		c.JSON(http.StatusOK, out)
		return
	}
	failed, err := s.Records.FailedByProject(c.Request.Context(), token(c).RepositoryID, time.Now().AddDate(0, 0, -30))
	if err != nil {
		s.fault(c, err)
		return
	}
	for _, p := range g.Projects {
		row := projectRow(p)
		row.Failed = failed[p.Name]
		out.Projects = append(out.Projects, row)
	}
	c.JSON(http.StatusOK, out)
}

func projectRow(p *graph.Project) protocol.ProjectRow {
	row := protocol.ProjectRow{
		Name: p.Name, Dir: p.Dir, Kinds: itemTexts(p.Kinds), Needs: []string{}, Tags: itemTexts(p.Tags), Owner: p.Owner, At: p.Pos.At(),
		Tasks: []protocol.ProjectTask{},
	}
	for _, q := range p.Needs {
		row.Needs = append(row.Needs, q.Name)
	}
	for _, t := range p.Tasks {
		task := protocol.ProjectTask{Name: t.Name, Help: t.Help, Command: t.Decl.Run.String(), Dependencies: []string{}, At: t.Pos.At()}
		for _, u := range t.Dependencies {
			task.Dependencies = append(task.Dependencies, u.Addr())
		}
		row.Tasks = append(row.Tasks, task)
	}
	return row
}

func itemTexts(list []decl.Item) []string { return decl.List{Items: list}.Texts() }

// reach answers what a file or a directory can affect, according to the newest
// recorded declarations.
func (s *Server) reach(c *gin.Context) {
	name := strings.TrimSuffix(c.Query("path"), "/")
	if !accept(c, bounds.Text("path", name)) {
		return
	}
	if !fs.ValidPath(name) || name == "." {
		problem(c, http.StatusBadRequest, "path is not a path from the root of the repository", "write it like libs/fares/rates.csv")
		return
	}
	out := protocol.Reach{Projects: []string{}, Tasks: []protocol.ReachedRow{}}
	if g := s.lastGraph(c); g != nil {
		// For a directory: what any file in it can affect, whatever its name.
		paths := []string{name}
		if strings.HasSuffix(c.Query("path"), "/") {
			paths = []string{path.Join(name, "any")}
		}
		list := change.Reach(g, change.Touched(g, nil, paths, nil))
		out.Projects = append(out.Projects, change.Projects(list)...)
		for _, x := range list {
			way := []string{x.By.By}
			for _, t := range x.Path {
				way = append(way, t.Addr())
			}
			out.Tasks = append(out.Tasks, protocol.ReachedRow{Task: x.Task.Addr(), Why: strings.Join(way, " → ")})
		}
	}
	c.JSON(http.StatusOK, out)
}
