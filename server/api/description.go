package api

import _ "embed"

// Description is the API's, in OpenAPI 3: handlers and types follow from it.
//
//go:embed openapi.yaml
var Description []byte
