/* Counts, of every statement that any connection runs, the steps that SQLite's machine
   takes: a few for each row of a table or an index that it visits. */
#include "visits.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#define MOST 2000

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static visit all[MOST];
static int known;

static int ended(unsigned kind, void *unused, void *stmt, void *nanoseconds) {
  (void)kind;
  (void)unused;
  (void)nanoseconds;
  const char *sql = sqlite3_sql(stmt);
  long steps = sqlite3_stmt_status(stmt, SQLITE_STMTSTATUS_VM_STEP, 1);
  if (!sql) return 0;
  pthread_mutex_lock(&lock);
  int i = 0;
  while (i < known && strcmp(all[i].sql, sql)) i++;
  if (i == known && known < MOST) all[known++].sql = strdup(sql);
  if (i < known) {
    all[i].runs++;
    if (steps > all[i].most) all[i].most = steps;
  }
  pthread_mutex_unlock(&lock);
  return 0;
}

static int opened(sqlite3 *db, char **error, const void *api) {
  (void)error;
  (void)api;
  return sqlite3_trace_v2(db, SQLITE_TRACE_PROFILE, ended, 0);
}

int visits_begin(void) { return sqlite3_auto_extension((void (*)(void))opened); }

void visits_reset(void) {
  pthread_mutex_lock(&lock);
  for (int i = 0; i < known; i++) all[i].runs = all[i].most = 0;
  pthread_mutex_unlock(&lock);
}

int visits_known(void) {
  pthread_mutex_lock(&lock);
  int n = known;
  pthread_mutex_unlock(&lock);
  return n;
}

visit visits_of(int i) {
  pthread_mutex_lock(&lock);
  visit v = all[i];
  pthread_mutex_unlock(&lock);
  return v;
}
