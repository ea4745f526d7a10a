// Package texts has what people who sign on are told, in their language. A text is named by its English wording, so
// that whoever translates sees what it says; what stands in braces is filled in.
package texts

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"golang.org/x/text/language"
)

// Text is a text by its English wording.
type Text string

// The texts of the page that tells a person why; beside them stand the messages of policies, the labels of checks, and
// the names of methods and apps.
const (
	TitleBlocked  Text = "You were not let in"
	TitleStepUp   Text = "One more proof is needed"
	Happened      Text = "You asked for “{app}” on {date} at {time}."
	Nothing       Text = "There is nothing that you can do about it here."
	Verify        Text = "Prove that it is you: {methods}."
	Enrol         Text = "Set up {methods}."
	Elsewhere     Text = "Set up {methods}, from a place where you may."
	Change        Text = "Change your password."
	Remedy        Text = "Mend on your device: {check}."
	Identify      Text = "Use a device that your organisation looks after, in the way that it is set up for: nothing said which device this is."
	Review        Text = "Wait for the review."
	Again         Text = "Go on to “{app}”"
	Help          Text = "If that does not help, ask whoever looks after your sign-on, and give this reference."
	HelpAlone     Text = "Ask whoever looks after your sign-on, and give this reference."
	TitleNext     Text = "What you can do"
	TitleHelp     Text = "Help"
	Reference     Text = "Reference"
	And           Text = "{first} and {second}"
	Or            Text = "{first} or {second}"
	NotFound      Text = "There is nothing here for you"
	NotFoundMore  Text = "Either this page is older than a week, or it is somebody else's, or you are not signed on."
	Confirm       Text = "Please confirm that it is you."
	WaitsReview   Text = "Your request waits for a review."
	Unverified    Text = "Something about this sign-on could not be verified."
	Circumstances Text = "You cannot sign on here under these circumstances."
	NoAccess      Text = "You have no access here."
	NoApp         Text = "No application has this address."
	CannotGive    Text = "You cannot give here what is asked for."
	SessionEnded  Text = "This session has ended. Please sign on again."
	StateAway     Text = "The service cannot reach what it remembers, and lets nobody in until it can."
)

// BuiltIn lists the texts above.
var BuiltIn = []Text{TitleBlocked, TitleStepUp, Happened, Nothing, Verify, Enrol, Elsewhere, Change, Remedy, Identify, Review, Again, Help, HelpAlone, TitleNext,
	TitleHelp, Reference, And, Or, NotFound, NotFoundMore, Confirm, WaitsReview, Unverified, Circumstances, NoAccess, NoApp, CannotGive, SessionEnded, StateAway}

// Catalog has texts in several languages. The zero Catalog has English alone.
type Catalog struct {
	tags    []language.Tag
	byTag   []map[string]string
	matcher language.Matcher
}

// Words are the texts in one language.
type Words struct {
	Tag  string // of the language (BCP 47)
	said map[string]string
}

var english = &Words{Tag: "en"}

// Tag is the language of a file, which is named like it: "texts/nb.json".
func Tag(file string) (language.Tag, error) {
	name, _, _ := strings.Cut(path.Base(file), ".")
	tag, err := language.Parse(name)
	if err != nil {
		return tag, fmt.Errorf("%q is no language, such as nb.json or en-GB.json is named after", name)
	}
	return tag, nil
}

// Add adds the texts of a language. The error says what is wrong with the file.
func (c *Catalog) Add(tag language.Tag, data []byte) (said []string, err error) {
	var doc map[string]string
	if err := json.Unmarshal(bytes.TrimPrefix(data, []byte("\ufeff")), &doc); err != nil {
		return nil, fmt.Errorf(`expected {"text in English": "the same in the language"}: %w`, err)
	}
	if slices.Contains(c.tags, tag) {
		return nil, fmt.Errorf("another file has the language %s", tag)
	}
	for _, text := range slices.Sorted(maps.Keys(doc)) {
		if err := sameGaps(text, doc[text]); err != nil {
			return nil, err
		}
		said = append(said, text)
	}
	c.tags, c.byTag = append(c.tags, tag), append(c.byTag, doc)
	c.matcher = nil
	return said, nil
}

var gap = regexp.MustCompile(`\{[a-z]+\}`)

// sameGaps sees to it that a built-in text has all that is filled in, and nothing else.
func sameGaps(text, said string) error {
	switch want, got := gap.FindAllString(text, -1), gap.FindAllString(said, -1); {
	case strings.TrimSpace(said) == "":
		return fmt.Errorf("%q is nothing", text)
	case !slices.Contains(BuiltIn, Text(text)):
		return nil
	case !slices.Equal(slices.Sorted(slices.Values(want)), slices.Sorted(slices.Values(got))):
		return fmt.Errorf("%q is to have %s, each once, and nothing else in braces", text, strings.Join(append(want, "no other"), ", "))
	}
	return nil
}

// Prepare makes the catalogue ready to be asked by several at once.
func (c *Catalog) Prepare() {
	c.matcher = language.NewMatcher(append(slices.Clone(c.tags), language.English))
}

// For is the best language for what a person accepts (RFC 9110, section 12.5.4).
func (c *Catalog) For(accept string) *Words {
	if c.matcher == nil || len(accept) > 1000 {
		return c.words(language.English)
	}
	wanted, _, err := language.ParseAcceptLanguage(accept)
	if err != nil {
		return c.words(language.English)
	}
	_, i, confidence := c.matcher.Match(wanted...)
	if confidence == language.No || i >= len(c.tags) {
		return c.words(language.English)
	}
	return &Words{c.tags[i].String(), c.byTag[i]}
}

// words are those of a language; English where there is none.
func (c *Catalog) words(tag language.Tag) *Words {
	if i := slices.Index(c.tags, tag); i >= 0 {
		return &Words{tag.String(), c.byTag[i]}
	}
	return english
}

// Say says a text, with what is to be filled in by name: "app", "ledger".
func (w *Words) Say(t Text, filled ...string) string {
	text := w.Name(string(t))
	if len(filled) == 0 {
		return text
	}
	for i := 0; i < len(filled); i += 2 {
		filled[i] = "{" + filled[i] + "}"
	}
	return strings.NewReplacer(filled...).Replace(text)
}

// Name says what somebody has named: a message, a method, an app. What is not translated stays as it is.
func (w *Words) Name(text string) string {
	if said, ok := w.said[text]; ok {
		return said
	}
	return text
}

// Of is the first of some texts that is said in this language; the last where none is.
func (w *Words) Of(list ...Text) Text {
	for _, t := range list {
		if _, is := w.said[string(t)]; is || w == english {
			return t
		}
	}
	return list[len(list)-1]
}

// All joins names: one and another and a third.
func (w *Words) All(by Text, names []string) string {
	all := ""
	for i, name := range names {
		if i == 0 {
			all = w.Name(name)
			continue
		}
		all = w.Say(by, "first", all, "second", w.Name(name))
	}
	return all
}
