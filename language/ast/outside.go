package ast

// Who asks the service, whom it believes, and whom it tells.

type (
	// Caller is a program that may ask the decision service.
	Caller struct {
		Block
		About        Name
		Tokens       []CallerToken
		Certificates []Name
		May          []Name    // what it may do
		For          Selection // apps; nothing is everything
		From         []Name    // networks; none is anywhere
		Sessions     Name
	}
	// CallerToken is the digest of a token, and the last day on which it counts.
	CallerToken struct {
		Digest Name
		Until  Name
	}
	// Issuer is who issues the tokens by which people are known to gateways.
	Issuer struct {
		Block
		URL      Name
		Keys     Name // a file, or an https address
		Audience []Audience
		Cookie   Name
		Who      Selection
		SignOn   Name
		Sessions Name
	}
	// Audience is for whom an issuer's tokens are, as far as apps are concerned.
	Audience struct {
		Name Name
		For  Selection // apps; nothing is all that no other audience is for
	}
	// Signals is who sends signals about people and devices.
	Signals struct {
		Block
		From     Name
		Keys     Name // a file, or an https address
		Audience Name
		Accept   []Name
		Poll     Name
		TokenIn  Name // of Poll: a variable of the environment
	}
	// Alert says of which sign-ons somebody is told.
	Alert struct {
		Block
		About Name
		Owner Name
		When  Cond
		On    []Name    // outcomes; none is any
		Who   Selection // nothing is everybody
		To    Selection // nothing is everything
		Most  Name      // of "at most N per …"; empty where there is no bound
		Per   Name      // user, app or rulebook
		Every Duration
		Tell  []Receiver
	}
	// Digest says when somebody is told how the week went.
	Digest struct {
		Block
		About Name
		Owner Name
		Days  []Name // days, and ranges of days
		At    Name   // a time of day
		Zone  Name   // empty: the rulebook's
		Tell  []Receiver
	}
	// Receiver is who is told.
	Receiver struct {
		Address  Name // mailto: or https:
		SecretIn Name // of an https address: a variable of the environment; may be missing
	}
)
