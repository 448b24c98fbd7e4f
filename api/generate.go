// Package api holds the description of the HTTP API; Go server types, the Go client, the TypeScript types
// and the table of roles are generated from openapi.yaml.
package api

//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 --config server.cfg.yaml openapi.yaml
//go:generate go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 --config client.cfg.yaml openapi.yaml
//go:generate go run ./roles openapi.yaml ../internal/server/roles.gen.go
