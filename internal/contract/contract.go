// Package contract is the OpenAPI document and what is generated from it: the
// types, the server's interface and the client's calls. The document is the
// contract; nothing here is written by hand but this comment.
package contract

import _ "embed"

//go:generate go tool oapi-codegen -config config.yaml openapi.yaml

// Document is the OpenAPI document.
//
//go:embed openapi.yaml
var Document []byte
