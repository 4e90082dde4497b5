package server

import (
	"context"

	"github.com/gin-gonic/gin"
	"github.com/go-json-experiment/json"

	"humblemule.example/api"
	"humblemule.example/job"
)

func (s *Server) listEndpoints(c *gin.Context) (any, error) {
	all, err := s.engine.Endpoints(c.Request.Context())
	return struct {
		Endpoints []api.EndpointStatus `json:"endpoints"`
	}{all}, err
}

func (s *Server) getEndpoint(c *gin.Context) (any, error) {
	return s.endpointNow(c, nil)
}

// endpointNow answers an endpoint as it stands, after what was done to it, unless that was refused.
func (s *Server) endpointNow(c *gin.Context, err error, warnings ...job.Warning) (any, error) {
	var e api.EndpointStatus
	if err == nil {
		e, err = s.engine.Endpoint(c.Request.Context(), c.Param("name"))
	}
	e.Warnings = warnings
	return versioned(c, func(e api.EndpointStatus) int64 { return e.Version }, e, err)
}

func (s *Server) putEndpoint(c *gin.Context) (any, error) {
	var given api.Endpoint
	ctx, err := asked(c, &given, readEndpoint)
	if err == nil {
		err = s.engine.SetEndpoint(ctx, c.Param("name"), given)
	}
	return s.endpointAsSet(c, err)
}

// patchEndpoint changes parts of an endpoint.
func (s *Server) patchEndpoint(c *gin.Context) (any, error) {
	name := c.Param("name")
	return s.endpointAsSet(c, patching[api.Endpoint]{
		get: func(context.Context) (api.Endpoint, int64, bool, error) {
			is, version, there := s.engine.EndpointAsSet(name)
			return is, version, there, nil
		},
		read: readEndpoint,
		set:  func(ctx context.Context, given api.Endpoint) error { return s.engine.SetEndpoint(ctx, name, given) },
	}.do(c))
}

func readEndpoint(raw []byte, v *api.Endpoint) error {
	return misread(json.Unmarshal(raw, v, strict), "")
}

func (s *Server) endpointAsSet(c *gin.Context, err error) (any, error) {
	var warnings []job.Warning
	if err == nil {
		e, _ := s.engine.Endpoint(c.Request.Context(), c.Param("name"))
		warnings = fromFile(e.DefinedBy == api.SettingByFile)
	}
	return s.endpointNow(c, err, warnings...)
}

// setEndpoint pauses an endpoint, or lets it go on.
func (s *Server) setEndpoint(set func(ctx context.Context, name string) error) func(c *gin.Context) (any, error) {
	return func(c *gin.Context) (any, error) {
		ctx, err := readCall(c, &struct{}{}, true, strict)
		if err == nil {
			err = set(ctx, c.Param("name"))
		}
		return s.endpointNow(c, err)
	}
}

// testEndpoint sends an endpoint a message that says that it is a test.
func (s *Server) testEndpoint(c *gin.Context) (any, error) {
	ctx, err := readCall(c, &struct{}{}, true, strict)
	if err != nil {
		return nil, err
	}
	told, err := s.engine.TestEndpoint(ctx, c.Param("name"))
	return created{told}, err
}
