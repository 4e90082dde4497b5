/* What this counter uses of SQLite's interface (sqlite3.h), which SQLite promises not to
   change. */
typedef struct sqlite3 sqlite3;
typedef struct sqlite3_stmt sqlite3_stmt;

extern int sqlite3_auto_extension(void (*)(void));
extern int sqlite3_trace_v2(sqlite3 *, unsigned, int (*)(unsigned, void *, void *, void *), void *);
extern int sqlite3_stmt_status(sqlite3_stmt *, int, int);
extern const char *sqlite3_sql(sqlite3_stmt *);

#define SQLITE_TRACE_PROFILE 2
#define SQLITE_STMTSTATUS_VM_STEP 4

typedef struct {
  char *sql;
  long runs, most; /* steps of SQLite's machine in one run, at most */
} visit;

int visits_begin(void);
void visits_reset(void);
int visits_known(void);
visit visits_of(int i);
