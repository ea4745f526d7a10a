package signon

// Requests of the AuthZEN Access Evaluation API, in which subject, action and resource are whole.

// addressType is the type of a resource that is named by its address on the web.
const addressType = "url"

// DecodeEvaluation reads one request as [Decode] does, in which the type and id of subject and resource and the name
// of the action must be stated. Unlike in a log, facts may be supposed; an outcome that stands there is given back. A
// resource of the type url is named by its address, which is given back in place of the app.
func DecodeEvaluation(data []byte) (Logged, error) {
	r, err := readRequest(data)
	if err != nil {
		return Logged{}, err
	}
	for _, member := range [...]struct{ field, value string }{
		{"subject.type", r.Subject.Type}, {"subject.id", r.Subject.ID}, {"action.name", r.Action.Name},
		{"resource.type", r.Resource.Type}, {"resource.id", r.Resource.ID},
	} {
		if member.value == "" {
			return Logged{}, &FieldError{member.field, "is missing"}
		}
	}
	l := Logged{}
	if r.Resource.Type == addressType {
		l.Address, r.Resource = r.Resource.ID, resource{}
	}
	if err := r.check(); err != nil {
		return Logged{}, err
	}
	if l.Outcome, l.Recorded, err = r.outcome(); err != nil {
		return Logged{}, err
	}
	l.SignOn, err = r.signOn()
	return l, err
}
