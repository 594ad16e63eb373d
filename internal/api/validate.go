package api

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/gin-gonic/gin"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
)

// rules are the contract's calls, by method and path as the router has it.
type rules map[string]*routers.Route

// newRules reads the contract. What it does not name in a request's body is not allowed
// there: a mistyped field would be left out in silence.
func newRules() (rules, error) {
	doc, err := openapi3.NewLoader().LoadFromData(contract.Document)
	if err != nil {
		return nil, fmt.Errorf("reading the contract: %w", err)
	}
	out := rules{}
	seen := map[*openapi3.Schema]bool{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			out[method+" "+strings.NewReplacer("{", ":", "}", "").Replace(path)] = &routers.Route{Spec: doc, Path: path,
				PathItem: item, Method: method, Operation: op}
			if op.RequestBody == nil {
				continue
			}
			for _, kind := range op.RequestBody.Value.Content {
				closeObjects(kind.Schema, seen)
			}
		}
	}
	return out, nil
}

func closeObjects(ref *openapi3.SchemaRef, seen map[*openapi3.Schema]bool) {
	if ref == nil || ref.Value == nil || seen[ref.Value] {
		return
	}
	s := ref.Value
	seen[s] = true
	if s.Type.Is("object") && len(s.Properties) > 0 && s.AdditionalProperties.Schema == nil {
		no := false
		s.AdditionalProperties.Has = &no
	}
	for _, p := range s.Properties {
		closeObjects(p, seen)
	}
	closeObjects(s.Items, seen)
	closeObjects(s.AdditionalProperties.Schema, seen)
}

// validate holds a request against the contract.
func (s *Server) validate(c *gin.Context) {
	route, ok := s.rules[c.Request.Method+" "+c.FullPath()]
	if !ok {
		c.Next()
		return
	}
	if err := unknownQuery(route, c.Request); err != nil {
		s.fail(c, err)
		return
	}
	params := map[string]string{}
	for _, p := range c.Params {
		params[p.Key] = p.Value
	}
	in := &openapi3filter.RequestValidationInput{Request: c.Request, PathParams: params, Route: route,
		Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc,
			RejectWhenRequestBodyNotSpecified: true, SkipSettingDefaults: true}}
	if err := openapi3filter.ValidateRequest(c.Request.Context(), in); err != nil {
		s.fail(c, wrong(err))
		return
	}
	c.Next()
}

// unknownQuery names a parameter that the call does not have.
func unknownQuery(route *routers.Route, r *http.Request) error {
	known := map[string]bool{}
	for _, list := range []openapi3.Parameters{route.PathItem.Parameters, route.Operation.Parameters} {
		for _, p := range list {
			if p.Value.In == openapi3.ParameterInQuery {
				known[p.Value.Name] = true
			}
		}
	}
	for name := range r.URL.Query() {
		if !known[name] {
			have := "it has none"
			if len(known) > 0 {
				have = "it has " + strings.Join(slices.Sorted(maps.Keys(known)), ", ")
			}
			return domain.Invalid("%q is no parameter of this call; %s", name, have)
		}
	}
	return nil
}

// wrong says in one sentence what a request has that the contract does not allow.
func wrong(err error) error {
	var re *openapi3filter.RequestError
	if !errors.As(err, &re) {
		return domain.Invalid("the request is wrong: %s", firstLine(err.Error()))
	}
	what := ""
	if re.Parameter != nil {
		what = re.Parameter.Name
	}
	var se *openapi3.SchemaError
	if !errors.As(err, &se) {
		switch {
		case re.Parameter != nil:
			return domain.Invalid("%s: %s", what, firstLine(plainly(re)))
		case errors.Is(err, openapi3filter.ErrInvalidRequired):
			return domain.Invalid("the request needs a body; /api/openapi.yaml describes it")
		}
		return domain.Invalid("the request's body cannot be read: %s", firstLine(plainly(re)))
	}
	path := strings.Join(se.JSONPointer(), ".")
	if se.SchemaField == "properties" {
		return domain.Invalid("%s is no field of this call; /api/openapi.yaml describes those there are",
			strings.TrimPrefix(path+"."+unknownField(se), "."))
	}
	if path != "" {
		what = strings.TrimPrefix(what+"."+path, ".")
	}
	if what == "" {
		what = "the body"
	}
	return domain.Invalid("%s %s", what, complaint(se))
}

func plainly(re *openapi3filter.RequestError) string {
	if re.Err != nil {
		return re.Err.Error()
	}
	return re.Reason
}

// kinds are the types of values, as people name them.
var kinds = map[string]string{"integer": "a whole number", "number": "a number", "string": "a text",
	"boolean": "true or false", "array": "a list", "object": "an object"}

// unknownField is the first field that a value has and its schema does not.
func unknownField(e *openapi3.SchemaError) string {
	given, _ := e.Value.(map[string]any)
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if _, ok := e.Schema.Properties[name]; !ok {
			return name
		}
	}
	return ""
}

// complaint is what is wrong with a value.
func complaint(e *openapi3.SchemaError) string {
	switch e.SchemaField {
	case "nullable":
		return "is null; give a value, or leave it out"
	case "enum":
		words := make([]string, len(e.Schema.Enum))
		for i, w := range e.Schema.Enum {
			words[i] = fmt.Sprint(w)
		}
		return fmt.Sprintf("is %q; choose from %s", fmt.Sprint(e.Value), strings.Join(words, ", "))
	case "type":
		for kind, name := range kinds {
			if e.Schema.Type.Is(kind) {
				return "must be " + name
			}
		}
	case "required":
		return "is missing"
	case "minimum":
		return fmt.Sprintf("is %v; give at least %v", e.Value, *e.Schema.Min)
	case "maximum":
		return fmt.Sprintf("is %v; give at most %v", e.Value, *e.Schema.Max)
	case "minLength":
		return "is empty"
	}
	return "is wrong: " + e.Reason
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}
