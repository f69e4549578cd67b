package protocol

import (
	"time"

	"grayloft.example/grayloft/internal/core/advice"
	"grayloft.example/grayloft/internal/core/digest"
	"grayloft.example/grayloft/internal/core/junit"
)

// TaskPage is the answer to GET tasks.
type TaskPage struct {
	Since time.Time `json:"since"` // a Monday, UTC
	Weeks int       `json:"weeks"`
	Tasks []TaskRow `json:"tasks"`
	Total int       `json:"total"` // that the filter selects
}

// TaskRow is what happened to one task in a number of weeks.
type TaskRow struct {
	Task         string    `json:"task"`
	Project      string    `json:"project"`
	Settled      int64     `json:"settled"`       // times that it had an outcome
	Executed     int64     `json:"executed"`      // ran or failed
	Failed       int64     `json:"failed"`        // of these
	Reused       int64     `json:"reused"`        // cached, restored or fetched
	SameOutputs  int64     `json:"same_outputs"`  // executions that gave the same outputs as before
	RunSeconds   float64   `json:"run_seconds"`   // of all executions
	MeanSeconds  float64   `json:"mean_seconds"`  // of an execution
	SavedSeconds float64   `json:"saved_seconds"` // by reuse
	FetchSeconds float64   `json:"fetch_seconds"`
	BytesIn      int64     `json:"bytes_in"`
	BytesOut     int64     `json:"bytes_out"`
	HitRate      *float64  `json:"hit_rate"` // reused of reused and executed; null if neither happened
	CriticalRuns int64     `json:"critical_runs"`
	Trend        []float64 `json:"trend"` // seconds of execution, by week
	At           string    `json:"at"`    // file:line of its declaration, as the newest run recorded it
	Owner        string    `json:"owner"`
}

// TaskBehaviour is the answer to GET tasks/{task}.
type TaskBehaviour struct {
	TaskRow
	Since    time.Time        `json:"since"`
	Weeks    int              `json:"weeks"`
	Help     string           `json:"help"`
	Command  string           `json:"command"`
	Reuse    string           `json:"reuse"`
	Places   []PlaceTimes     `json:"places"`
	Points   []TaskPoint      `json:"points"`  // newest first, at most MaxPoints
	Reasons  []ReasonCount    `json:"reasons"` // by week
	Causes   []CauseRow       `json:"causes"`  // the most frequent first
	Unstable []UnstableKey    `json:"unstable"`
	Tests    []TestHistory    `json:"tests"` // that failed at least once
	Advice   []advice.Finding `json:"advice"`
	Graph    *TaskDeclaration `json:"declaration"` // null if it is not declared any more
}

// MaxPoints is how many executions and transfers a task's history contains.
const MaxPoints = 1500

// TaskDeclaration says how a task is declared.
type TaskDeclaration struct {
	Dependencies []string `json:"dependencies"`
	Dependents   []string `json:"dependents"`
	HasProbes    bool     `json:"has_probes"`
	HasWrites    bool     `json:"has_writes"`
	HasOutputs   bool     `json:"has_outputs"` // it may write something
	Isolation    string   `json:"isolation"`
}

// PlaceTimes compares running and fetching at one place.
type PlaceTimes struct {
	Place   string  `json:"place"`
	Run     Times   `json:"run"`
	Fetch   Times   `json:"fetch"`
	BytesIn int64   `json:"bytes_in"`
	Verdict string  `json:"verdict"` // fetching, running, same or unknown
	Says    string  `json:"says"`    // one sentence
	Speed   float64 `json:"speed"`   // bytes per second of its fetches; 0 if there were none
}

// Times is a distribution of durations in seconds.
type Times struct {
	N       int       `json:"n"`
	Lowest  float64   `json:"lowest"`
	Quarter float64   `json:"quarter"`
	Median  float64   `json:"median"`
	Upper   float64   `json:"upper"` // three quarters are below
	Highest float64   `json:"highest"`
	Values  []float64 `json:"values"` // at most 200 of them, evenly chosen, ascending
}

// TaskPoint is one execution or transfer of a task.
type TaskPoint struct {
	At      time.Time `json:"at"`
	Run     string    `json:"run"`
	Place   string    `json:"place"`
	Outcome string    `json:"outcome"`
	Reason  string    `json:"reason"`
	Seconds float64   `json:"seconds"`
}

// ReasonCount is how often a task was executed for a reason in a week.
type ReasonCount struct {
	Week   time.Time `json:"week"`
	Reason string    `json:"reason"`
	N      int       `json:"n"`
}

// CauseRow is a path whose change made tasks run again.
type CauseRow struct {
	Path        string  `json:"path"` // a directory ends with a slash
	Task        string  `json:"task,omitempty"`
	Reruns      int     `json:"reruns"`
	Judged      int     `json:"judged"`       // reruns of tasks with outputs, which can be compared
	SameOutputs int     `json:"same_outputs"` // of these
	Seconds     float64 `json:"seconds"`
	Tasks       int     `json:"tasks"` // that it made run again
}

// UnstableKey is a key whose executions did not agree.
type UnstableKey struct {
	Task      string        `json:"task"`
	Key       digest.Digest `json:"key"`
	Passed    int           `json:"passed"`
	Failed    int           `json:"failed"`
	Listings  int           `json:"listings"`
	At        time.Time     `json:"at"` // the newest execution
	PassedRun string        `json:"passed_run"`
	FailedRun string        `json:"failed_run"`
	OtherRun  string        `json:"other_run"` // with other outputs than passed_run
	Tests     []string      `json:"tests"`
}

// TestHistory is how often a test case passed and failed.
type TestHistory struct {
	Task    string    `json:"task"`
	Name    string    `json:"name"`
	Passed  int       `json:"passed"`
	Failed  int       `json:"failed"`
	Last    time.Time `json:"last"`
	LastRun string    `json:"last_run"` // the newest in which it failed
	Message string    `json:"message"`  // of that failure
}

// AdvicePage is the answer to GET advice.
type AdvicePage struct {
	Since    time.Time        `json:"since"`
	Weeks    int              `json:"weeks"`
	Runs     int              `json:"runs"`
	Findings []advice.Finding `json:"findings"`
	Causes   []CauseRow       `json:"causes"` // the files that cause most reruns, of all tasks
}

// TaskDetail is the answer to GET runs/{id}/task: what a task of a run was built
// from. What the service no longer has is null.
type TaskDetail struct {
	Record  TaskRecord   `json:"record"`
	Run     Run          `json:"run"`
	Made    *Ingredients `json:"ingredients"`
	Outputs []OutputRow  `json:"outputs"`
	Tests   []junit.Case `json:"tests"`
	Total   int          `json:"total_outputs"`
}

// Ingredients are those of a key, for people.
type Ingredients struct {
	Dir          string        `json:"dir"`
	Command      []string      `json:"command"`
	Args         []string      `json:"args"`
	Writes       []string      `json:"writes"`
	Isolation    string        `json:"isolation"`
	Platform     string        `json:"platform"`
	Env          []Ingredient  `json:"env"`
	Settings     []Ingredient  `json:"settings"`
	Probes       []Ingredient  `json:"probes"`
	Files        []Ingredient  `json:"files"` // with their digests
	FileCount    int           `json:"file_count"`
	Dependencies []Ingredient  `json:"dependencies"` // with the digests of their listings
	Digest       digest.Digest `json:"digest"`
}

// Ingredient is one named ingredient.
type Ingredient struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// OutputRow is one output of a task.
type OutputRow struct {
	Path   string        `json:"path"`
	Kind   string        `json:"kind"`
	Size   int64         `json:"size"`
	Digest digest.Digest `json:"digest"`
	Stored bool          `json:"stored"` // the service has it
}

// Difference is the answer to GET runs/{id}/difference: what sets a task of two
// runs apart.
type Difference struct {
	Task    string       `json:"task"`
	Runs    [2]string    `json:"runs"`
	Changes []ChangeRow  `json:"changes"`
	Outputs []ChangeRow  `json:"outputs"`
	Records []TaskRecord `json:"records"`
	Known   bool         `json:"known"` // the service has the ingredients of both
}

// ChangeRow is one difference. Diff is a unified diff, if both texts are known.
type ChangeRow struct {
	Reason string `json:"reason"`
	What   string `json:"what"`
	How    string `json:"how"` // new, changed or gone
	Before string `json:"before"`
	After  string `json:"after"`
	Diff   string `json:"diff,omitempty"`
}

// Projects is the answer to GET projects: the newest recorded declarations.
type Projects struct {
	Run      string       `json:"run"`
	Projects []ProjectRow `json:"projects"`
}

// ProjectRow is one project.
type ProjectRow struct {
	Name   string        `json:"name"`
	Dir    string        `json:"dir"`
	Kinds  []string      `json:"kinds"`
	Needs  []string      `json:"needs"`
	Tags   []string      `json:"tags"`
	Owner  string        `json:"owner"`
	At     string        `json:"at"`
	Failed int           `json:"failed"` // executions that failed in the last 30 days
	Tasks  []ProjectTask `json:"tasks"`
}

// ProjectTask is one task of a project.
type ProjectTask struct {
	Name         string   `json:"name"`
	Help         string   `json:"help"`
	Command      string   `json:"command"`
	Dependencies []string `json:"dependencies"`
	At           string   `json:"at"`
}

// Reach is the answer to GET reach.
type Reach struct {
	Projects []string     `json:"projects"`
	Tasks    []ReachedRow `json:"tasks"`
}

// ReachedRow is one task that a path reaches.
type ReachedRow struct {
	Task string `json:"task"`
	Why  string `json:"why"`
}

// Cache is the answer to GET cache.
type Cache struct {
	Bytes       int64         `json:"bytes"`   // of stored blobs
	Waiting     int64         `json:"waiting"` // of blobs that wait for deletion
	Quota       int64         `json:"quota"`   // 0: none
	OwnQuota    int64         `json:"own_quota"`
	Days        int           `json:"days"` // unused entries are removed after; 0: never
	OwnDays     int           `json:"own_days"`
	Entries     int64         `json:"entries"`
	Shelves     []CacheShare  `json:"shelves"`
	Projects    []CacheShare  `json:"projects"`
	Growth      []CachePoint  `json:"growth"`
	Hits        []HitPoint    `json:"hits"`
	Evictions   []EvictionRow `json:"evictions"`
	ShelfQuotas []ShelfQuota  `json:"shelf_quotas"`
	Largest     []CacheEntry  `json:"largest"`
}

// CacheShare is what one shelf or project holds. A file that several entries
// name counts for each.
type CacheShare struct {
	Name    string `json:"name"`
	Entries int64  `json:"entries"`
	Bytes   int64  `json:"bytes"`
	Used    int64  `json:"used"` // entries that somebody used in the last 30 days
}

// CachePoint is what one shelf held at the end of a day.
type CachePoint struct {
	Day     string `json:"day"`
	Shelf   string `json:"shelf"`
	Entries int64  `json:"entries"`
	Bytes   int64  `json:"bytes"`
}

// HitPoint counts, for one week, how tasks were settled.
type HitPoint struct {
	Week     time.Time `json:"week"`
	Fetched  int64     `json:"fetched"`
	Restored int64     `json:"restored"`
	Cached   int64     `json:"cached"`
	Executed int64     `json:"executed"`
}

// EvictionRow counts evicted entries of one day.
type EvictionRow struct {
	Day     string `json:"day"`
	Shelf   string `json:"shelf"`
	Why     string `json:"why"` // unused or quota
	Entries int64  `json:"entries"`
	Bytes   int64  `json:"bytes"`
}

// ShelfQuota is the quota of the shelves that match a pattern.
type ShelfQuota struct {
	Pattern string `json:"pattern"`
	Bytes   int64  `json:"bytes"`
}

// CacheEntry is one entry of the cache.
type CacheEntry struct {
	Entry
	LastUsed string `json:"last_used"`
}

// EntryDetail is the answer to GET entries/{key}.
type EntryDetail struct {
	CacheEntry
	Made    *Ingredients `json:"ingredients_detail"`
	Outputs []OutputRow  `json:"outputs"`
	Total   int          `json:"total_outputs"`
}

// RetentionChange is the body of PUT cache/retention. Null changes nothing; 0
// means the service's default.
type RetentionChange struct {
	QuotaBytes *int64 `json:"quota_bytes,omitempty"`
	Days       *int   `json:"days,omitempty"`
	Shelf      string `json:"shelf,omitempty"` // a pattern: its quota is set instead
}

// TokenRow is one token.
type TokenRow struct {
	Self
	MadeBy string     `json:"made_by"`
	MadeAt time.Time  `json:"made_at"`
	Used   *time.Time `json:"used"` // about when it was used last
}

// TokenList is the answer to GET tokens.
type TokenList struct {
	Tokens []TokenRow `json:"tokens"`
}

// NewToken is the body of POST tokens.
type NewToken struct {
	Name      string   `json:"name"`
	WritesTo  string   `json:"writes_to"`
	ReadsFrom []string `json:"reads_from"`
	View      bool     `json:"view"`
	Manage    bool     `json:"manage"`
	Request   bool     `json:"request,omitempty"`
	Serves    []string `json:"serves,omitempty"` // pools
	Days      int      `json:"days"`             // until it expires; 0: never
}

// MadeToken is the answer to POST tokens: the secret is shown this one time.
type MadeToken struct {
	ID     int64  `json:"id"`
	Secret string `json:"token"`
}

// AuditPage is the answer to GET audit, newest first.
type AuditPage struct {
	Rows []AuditRow `json:"rows"`
	Next int64      `json:"next,omitempty"` // for ?before=
}

// AuditRow is one action of somebody who may manage.
type AuditRow struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
	Address string    `json:"address"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Detail  string    `json:"detail"`
}
