package server

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/gin-gonic/gin"

	"humblemule.example/api"
	"humblemule.example/job"
)

func (s *Server) listBackups(c *gin.Context) (any, error) {
	all, err := s.engine.Backups(c.Request.Context())
	all.Backups = append([]api.Backup{}, all.Backups...)
	return all, err
}

func (s *Server) getBackup(c *gin.Context) (any, error) {
	return s.engine.Backup(c.Request.Context(), c.Param("name"))
}

// makeBackup begins a backup, which goes on by itself.
func (s *Server) makeBackup(c *gin.Context) (any, error) {
	ctx, err := s.emptyCall(c)
	if err != nil {
		return nil, err
	}
	b, err := s.engine.MakeBackup(ctx)
	return accepted{b}, err
}

// getBackupFile answers the file of a backup, which holds also what tasks hide of their payloads:
// where tokens are asked for only a keeper gets it. Without tokens whoever is on this machine may
// take jobs too, and sees it there.
func (s *Server) getBackupFile(c *gin.Context) {
	f, b, err := s.engine.OpenBackup(c.Request.Context(), c.Param("name"))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Close()
	if err := keepersOnly(c, "a backup"); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", b.Name))
	if sum, err := hex.DecodeString(b.SHA256); err == nil && len(sum) > 0 {
		c.Header("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
		c.Header("ETag", `"`+b.SHA256+`"`)
	}
	http.ServeContent(c.Writer, c.Request, b.Name, b.At.Go(), &patientFile{f, http.NewResponseController(c.Writer)})
}

// keepersOnly refuses what holds all of payloads to others than keepers, where tokens are asked for.
func keepersOnly(c *gin.Context, what string) error {
	if who := callerOf(c); who.Role != Keeper && who != local {
		return job.Fault(job.Forbidden, "token %s has the role %s, and %s holds what tasks hide of their payloads; ask for it with a token of the role keeper", who.Name, who.Role, what)
	}
	return nil
}

// keepers lets keepers alone through, behind what lets operators through.
func (s *Server) keepers(what string) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := keepersOnly(c, what); err != nil {
			s.fail(c, err)
		}
	}
}

// patientFile is a file that is written to a reader who may take long for all of it, but not for a
// part.
type patientFile struct {
	*os.File
	control *http.ResponseController
}

func (p *patientFile) Read(b []byte) (int, error) {
	if err := p.control.SetWriteDeadline(time.Now().Add(takesWithin)); err != nil {
		return 0, err
	}
	return p.File.Read(b)
}

func (s *Server) getDataFile(c *gin.Context) (any, error) {
	return s.engine.DataFile(c.Request.Context())
}

// setDataFile does something to the data file, and tells of it as it stands then.
func (s *Server) setDataFile(do func(ctx context.Context) error) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := s.emptyCall(c)
		if err == nil {
			err = do(ctx)
		}
		if err != nil {
			return nil, err
		}
		told, err := s.getDataFile(c)
		return accepted{told}, err
	}
}
