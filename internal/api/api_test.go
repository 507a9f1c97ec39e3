package api

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"
)

// TestBrokenStreams: nobody takes half an answer for the whole.
func TestBrokenStreams(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	s := &Server{log: slog.New(slog.DiscardHandler)}
	r := gin.New()
	r.Use(s.recovered)
	r.GET("/broken", func(c *gin.Context) {
		c.Writer.Write(make([]byte, 100_000))
		c.Writer.Flush()
		panic(http.ErrAbortHandler)
	})
	r.GET("/mistake", func(c *gin.Context) {
		c.Writer.Write(make([]byte, 100_000))
		c.Writer.Flush()
		panic("a mistake in the middle")
	})
	r.GET("/early", func(*gin.Context) { panic("a mistake before the first byte") })
	server := httptest.NewServer(r)
	defer server.Close()
	for _, path := range []string{"/broken", "/mistake"} {
		res, err := http.Get(server.URL + path)
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, res.Body)
		require.ErrorIs(t, err, io.ErrUnexpectedEOF, path)
		res.Body.Close()
	}
	res, err := http.Get(server.URL + "/early")
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusInternalServerError, res.StatusCode)
	require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
}

func ginContext(w http.ResponseWriter) *gin.Context {
	c, _ := gin.CreateTestContext(w)
	c.Request = httptest.NewRequest("GET", "/", nil)
	return c
}
