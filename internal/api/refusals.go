package api

import (
	"net/http"

	"dustyferry/internal/domain"
)

// Refusal is one of the ways in which a request is refused: always as a problem document
// (RFC 9457), whose detail is one sentence that says what is wrong and what to do.
type Refusal struct {
	Kind   domain.ProblemKind // empty: of the service itself
	Status int
	Title  string
	Means  string
	ToDo   string
}

var (
	tooLarge = Refusal{"", http.StatusRequestEntityTooLarge, "Too large", "The request is larger than its call takes.",
		"Send less at once."}
	tooOften = Refusal{"", http.StatusTooManyRequests, "Too many",
		"Too many requests, sign-ins or streams came from one caller.", "Wait as long as the header Retry-After says."}
	recordsAway = Refusal{"", http.StatusServiceUnavailable, "Not possible now",
		"The control database does not answer. Nothing is lost.",
		"Ask again in a moment; see that the control database runs."}
	refusedThere = Refusal{"", http.StatusBadGateway, "A database refused it",
		"A source or target refused a statement that the request needed: a right or an object is missing there.",
		"Do what the detail says on that server, and ask again."}
	fault = Refusal{"", http.StatusInternalServerError, "Internal error",
		"Something went wrong inside the service.",
		"Look into the service's log, which has the request and the error; report it."}
	signIn = Refusal{"", http.StatusUnauthorized, "Not signed in",
		"No token was given, or one that is not valid any more.", "Sign in, or give a token as DUSTYFERRY_TOKEN."}
)

// Refusals are all of them.
var Refusals = []Refusal{
	{domain.ProblemInvalid, http.StatusBadRequest, "Wrong request",
		"Something in the request is not right: a name, a setting, a pattern, a manifest.", "Correct what the detail names."},
	signIn,
	{domain.ProblemForbidden, http.StatusForbidden, "Not allowed",
		"The role of the token does not allow it, or not the rows that were asked for.",
		"Use a token with the role that the detail names."},
	{domain.ProblemNotFound, http.StatusNotFound, "Not found",
		"There is no crossing, database, table or call of that name.",
		"Check the name; the detail says where the names are listed."},
	{domain.ProblemConflict, http.StatusConflict, "Not possible now", "The crossing is in a phase or condition that " +
		"does not allow it, or other work is under way, or somebody changed it meanwhile.",
		"Do what the detail says first, or wait for the other work."},
	tooLarge,
	tooOften,
	fault,
	{domain.ProblemUnavailable, http.StatusBadGateway, "A database cannot be used",
		"A source or target did not answer, or refused the sign-in. Work that is under way waits for it by itself.",
		"See that the server runs and that address, user, password and tls are right: `dustyferry database check NAME`."},
	refusedThere,
	recordsAway,
}

// refusalOf is how a problem of a kind is answered.
func refusalOf(kind domain.ProblemKind) Refusal {
	for _, r := range Refusals {
		if r.Kind == kind {
			return r
		}
	}
	return fault
}
