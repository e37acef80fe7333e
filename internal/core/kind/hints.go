package kind

// Hints say how a kind is found in a project that has no declaration, and what
// leads to it in env files. A kind that has none is never proposed.
type Hints struct {
	// Title names the servers that its clients talk to: "MySQL and MariaDB".
	Title string
	// Name is what a service of the kind is called where nothing else says.
	Name string
	// Libraries are its clients in manifests of packages. A name that ends with *
	// stands for all that begin so.
	Libraries []string
	// Schemes are those of addresses that lead to it.
	Schemes []string
	// Ports are those that it usually has.
	Ports []int
	// Words begin the names of variables that lead to it part by part: REDIS, of
	// REDIS_HOST.
	Words []string
	// Purposes are words of such names that say what a server is for and not which
	// one it is, with how soon this kind is thought of: 1 before 2.
	Purposes map[string]int
	// Variable is what most apps read its address from, Address the fact with it.
	Variable, Address string
	// ByLibrary are variables that its client libraries read by themselves, each with the fact
	// that it holds.
	ByLibrary [][2]string
	// Like is the kind that it may stand in for, since the same clients talk to
	// both.
	Like string
	// SQL says that it is a database that asks for SQL.
	SQL bool
	// Offered says that many apps need one, so that it is offered where nothing
	// asks for it.
	Offered bool
	// Web says that its address is one of the web: variables with such addresses whose
	// name has one of the words lead to it.
	Web bool
	// Beside are the facts behind the last words of variables that stand beside its
	// address: KEY, of FILES_KEY beside FILES_ENDPOINT.
	Beside map[string]string
	// Front says that it serves what other services make, and is written after
	// them.
	Front bool
}

// Hinter is a kind that has hints.
type Hinter interface {
	Hints() Hints
}
