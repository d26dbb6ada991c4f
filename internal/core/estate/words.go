package estate

import "slices"

// A Kind says what a group keeps and passes on.
type Kind uint8

// The kinds of groups.
const (
	List    Kind = iota // passes copies on, keeps nothing
	Forum               // passes copies on, keeps posts where members can read them
	Mailbox             // a shared inbox: keeps posts, passes nothing on
	Roster              // takes no mail: a set of people
)

// A Copy is what a member wants of a group's mail.
type Copy uint8

// The copies. Unset is what a membership or group says that says nothing.
const (
	CopyUnset Copy = iota
	CopyEvery
	CopyDigest
	CopyReplies
	CopyNone
)

// Invitations says whether calendar requests are passed on to a member.
type Invitations uint8

// What a membership or group may say about invitations.
const (
	InvitationsUnset  Invitations = iota
	InvitationsFollow             // as its copy: every for every, else none
	InvitationsEvery
	InvitationsNone
)

// A MailboxState is the state of a person's mailbox.
type MailboxState uint8

// The states of a mailbox.
const (
	MailboxOpen   MailboxState = iota
	MailboxFull                // over its quota
	MailboxClosed              // suspended
	MailboxNone                // there is none
)

// A Verdict is what a gate says of a message.
type Verdict uint8

// The verdicts.
const (
	Admit  Verdict = iota
	Hold           // a moderator decides
	Refuse         // the sender is notified
	Drop           // silently
)

// A SendAs is the right to write in a group's name.
type SendAs uint8

// The rights to send as a group.
const (
	NoSendAs SendAs = iota
	AsGroup         // From is the group, there is no Sender (RFC 5322, section 3.6.2)
	ForGroup        // From is the group, Sender is the person
)

// A Party is either of those that an address of a message can name.
type Party uint8

// The parties. What they mean depends on the setting.
const (
	PartyPerson Party = iota // the author, as replies-as and replies-to default to
	PartyGroup
)

// A Proof says how a person has to prove that a group's name is theirs to use.
type Proof uint8

// The proofs.
const (
	ProofNone Proof = iota
	ProofMailedCode
)

// An Action is something that the access setting of a group allows.
type Action uint8

// The actions of the access setting, by what they protect most.
const (
	Manage Action = iota
	SeeMembers
	Read
	Find
	Ask
	Join
	actions
)

// The words of the settings, in the order of their constants. The empty word
// stands for a setting that is not given.
var (
	kindWords        = []string{"list", "forum", "mailbox", "roster"}
	copyWords        = []string{"", "every", "digest", "replies", "none"}
	invitationsWords = []string{"", "follow", "every", "none"}
	mailboxWords     = []string{"open", "full", "closed", "none"}
	verdictWords     = []string{"admit", "hold", "refuse", "drop"}
	sendAsWords      = []string{"", "as", "for"}
	repliesAsWords   = []string{"person", "group"}
	repliesToWords   = []string{"author", "group"}

	outsideMembersWords = []string{"allowed", "refused"}
	proofWords          = []string{"none", "mailed-code"}
	actionWords         = []string{"manage", "see-members", "read", "find", "ask", "join"}
)

func (k Kind) String() string         { return kindWords[k] }
func (c Copy) String() string         { return copyWords[c] }
func (i Invitations) String() string  { return invitationsWords[i] }
func (m MailboxState) String() string { return mailboxWords[m] }
func (v Verdict) String() string      { return verdictWords[v] }
func (v SendAs) String() string       { return sendAsWords[v] }
func (a Action) String() string       { return actionWords[a] }

// Keeps reports whether a group of kind k keeps its mail where members read it.
func (k Kind) Keeps() bool { return k == Forum || k == Mailbox }

// KindWords and the functions below return the words of a setting, in the order of their
// constants.
func KindWords() []string { return slices.Clone(kindWords) }

// CopyWords is described at KindWords.
func CopyWords() []string { return slices.Clone(copyWords) }

// InvitationsWords is described at KindWords.
func InvitationsWords() []string { return slices.Clone(invitationsWords) }

// MailboxWords is described at KindWords.
func MailboxWords() []string { return slices.Clone(mailboxWords) }

// VerdictWords is described at KindWords.
func VerdictWords() []string { return slices.Clone(verdictWords) }

// ActionWords is described at KindWords.
func ActionWords() []string { return slices.Clone(actionWords) }

// former are words of the estate that are called otherwise now.
var former = map[string]string{
	"voice":            "send-as",
	"voice-proof":      "send-as-proof",
	"facts":            "attributes",
	"voice-unprovable": "send-as-unprovable",
}

// Former returns what a setting, field or hazard is called now, and whether word is a
// former name of one.
func Former(word string) (now string, ok bool) {
	now, ok = former[word]
	return now, ok
}

// NestedGatesWord returns what an estate says where nested groups do not ask their own
// gate again (open), and where they do.
func NestedGatesWord(open bool) string {
	if open {
		return "open"
	}
	return "enforce"
}

// WordIndex returns the constant whose word is word, and whether there is one.
func WordIndex[T ~uint8](words []string, word string) (T, bool) {
	i := slices.Index(words, word)
	return T(max(i, 0)), i >= 0 && word != ""
}
