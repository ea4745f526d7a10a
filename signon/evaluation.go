package signon

// Requests of the AuthZEN Access Evaluation API, in which subject, action and resource are whole.

// DecodeEvaluation reads one request as [Decode] does, in which the type and id of subject and resource and the name
// of the action must be stated. Unlike in a log, facts may be supposed; an outcome that stands there is given back.
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
	if l.Outcome, l.Recorded, err = r.outcome(); err != nil {
		return Logged{}, err
	}
	l.SignOn, err = r.signOn()
	return l, err
}
