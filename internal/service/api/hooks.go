package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"grayloft.example/grayloft/internal/protocol"
	"grayloft.example/grayloft/internal/service/bounds"
	"grayloft.example/grayloft/internal/service/fleet"
	"grayloft.example/grayloft/internal/service/records"
)

// push starts runs after a push. It has no token: its sender signs it, after the Standard
// Webhooks specification, with the secret of a trigger in the service's configuration.
func (s *Server) push(c *gin.Context) {
	if s.isGuessing(c, "") {
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, smallBody))
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "the body is too large", fmt.Sprintf("at most %d bytes are allowed here", smallBody))
		return
	}
	var signed []fleet.Trigger
	for _, t := range s.Pushes {
		if t.Repository == c.Param("repo") && t.Signed(body, c.Request.Header) {
			signed = append(signed, t)
		}
	}
	if len(signed) == 0 {
		s.noteFailure(c)
		problem(c, http.StatusUnauthorized, "the signature is missing, wrong or too old",
			"sign the push with the secret_file of a [[push]] of this repository")
		return
	}
	var in protocol.Push
	if err := json.Unmarshal(body, &in); err != nil {
		problem(c, http.StatusBadRequest, "the body cannot be read", `send {"branch": "main", "commit": "…"}`)
		return
	}
	if !accept(c, bounds.Push(in)) {
		return
	}
	out := protocol.PushAnswer{Requests: []int64{}}
	for _, t := range signed {
		if !t.Wants(in.Branch) {
			continue
		}
		o := fleet.Origin{Kind: protocol.OriginPush, Source: "push " + t.Name + " " + in.Branch + " " + in.Commit}
		made, err := s.Fleet.Launch(c.Request.Context(), t, o, in.Branch, in.Commit)
		var invalid records.InvalidError
		if errors.As(err, &invalid) {
			problem(c, http.StatusConflict, "the push "+t.Name+" of the service's configuration does not work", invalid.Error())
			return
		}
		if err != nil {
			s.fleetFault(c, err)
			return
		}
		out.Requests = append(out.Requests, made.ID)
	}
	c.JSON(http.StatusOK, out)
}

// receivers lists the addresses to which runs are announced.
func (s *Server) receivers(c *gin.Context) {
	list, err := s.Announcer.Receivers(c.Request.Context(), token(c).RepositoryID)
	out := protocol.ReceiverList{Receivers: []protocol.Receiver{}}
	for _, r := range list {
		out.Receivers = append(out.Receivers, protocol.Receiver{
			ID: r.ID, URL: r.URL, MadeBy: r.MadeBy, MadeAt: r.MadeAt.UTC(), Tried: r.Tried, Outcome: r.Outcome,
		})
	}
	s.answer(c, out, err)
}

// addReceiver adds an address, and shows the secret of its announcements this one time.
func (s *Server) addReceiver(c *gin.Context) {
	var in protocol.NewReceiver
	if !s.decode(c, smallBody, &in) || !accept(c, bounds.Text("url", in.URL)) {
		return
	}
	id, secret, err := s.Announcer.Add(c.Request.Context(), token(c).RepositoryID, in.URL, token(c).Name)
	if err != nil {
		s.refused(c, err)
		return
	}
	s.note(c, records.Audit{Action: "receiver added", Subject: in.URL})
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, protocol.MadeReceiver{ID: id, Secret: secret})
}

func (s *Server) removeReceiver(c *gin.Context) {
	id, ok := idOf(c)
	if !ok {
		return
	}
	err := s.Announcer.Remove(c.Request.Context(), token(c).RepositoryID, id)
	if err == nil {
		s.note(c, records.Audit{Action: "receiver removed", Subject: c.Param("id")})
	}
	s.answer(c, nil, err)
}
