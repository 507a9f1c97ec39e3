package api

import (
	"net/http"

	"github.com/coder/websocket"
	"github.com/gin-gonic/gin"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/hostlink"
)

// TypeConsole types on the serial port of a machine.
func (s *Server) TypeConsole(c *gin.Context, p openapi.TypeConsoleParams) {
	var body openapi.TypeConsoleJSONRequestBody
	if err := c.ShouldBindJSON(&body); err != nil {
		s.problem(c, err)
		return
	}
	s.answer(c, http.StatusNoContent, nil, s.work.Type(c, p.Name, []byte(body.Text)))
}

// GetPicture answers with what a machine shows.
func (s *Server) GetPicture(c *gin.Context, p openapi.GetPictureParams) {
	picture, err := s.work.Picture(c, p.Name)
	if err != nil {
		s.problem(c, err)
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Data(http.StatusOK, "image/png", picture)
}

// OpenDisplay carries a machine's display over a WebSocket. A browser may open one from pages of this service only.
func (s *Server) OpenDisplay(c *gin.Context, p openapi.OpenDisplayParams) {
	screen, err := s.work.Display(c, p.Name)
	if err != nil {
		s.problem(c, err)
		return
	}
	defer screen.Close()
	ws, err := websocket.Accept(c.Writer, c.Request, nil)
	if err != nil {
		return // it was answered
	}
	hostlink.Join(c, websocket.NetConn(c, ws, websocket.MessageBinary), screen)
}
