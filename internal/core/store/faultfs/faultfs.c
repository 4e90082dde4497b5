/* A file layer under SQLite that models what a system's cache and a disk do to each
   other. What is written reaches the file, which stands for the cache; it reaches the
   shadow beside it (the name with .disk behind it), which stands for the disk, when it is
   synced. A failed fsync leaves the disk as it was, and the cache counts as clean: a
   later fsync does not write the same bytes again, as on Linux. */
#define _GNU_SOURCE
#include "faultfs.h"

#include <fcntl.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define MOST_FILES 64

typedef struct range {
  struct range *next;
  sqlite3_int64 at, length; /* length -1: the file was cut at `at` */
} range;

/* name is a file that has been opened, and what of it no sync has written yet. */
typedef struct {
  char path[1024];
  range *first, **last;
} name;

typedef struct {
  sqlite3_file base;
  name *of; /* 0 for files that are not modelled */
} file;

static sqlite3_vfs *under;
static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static name names[MOST_FILES];
static int known;
static long ops, syncs, fail_from, fail_count, cut_at;
static int full;

static sqlite3_file *real(sqlite3_file *f) { return (sqlite3_file *)((file *)f + 1); }

static name *find(const char *path) {
  for (int i = 0; i < known; i++)
    if (!strcmp(names[i].path, path)) return &names[i];
  if (known == MOST_FILES || strlen(path) >= sizeof names[0].path) return 0;
  name *n = &names[known++];
  strcpy(n->path, path);
  n->first = 0;
  n->last = &n->first;
  return n;
}

static void forget(name *n) {
  while (n->first) {
    range *r = n->first;
    n->first = r->next;
    free(r);
  }
  n->last = &n->first;
}

static void note(name *n, sqlite3_int64 at, sqlite3_int64 length) {
  range *r = malloc(sizeof *r);
  r->next = 0;
  r->at = at;
  r->length = length;
  *n->last = r;
  n->last = &r->next;
}

/* counts an operation that changes a file; 1 once the power is cut. */
static int dead(void) {
  ops++;
  return cut_at && ops >= cut_at;
}

static void shadow(const char *path, char *to) {
  strcpy(to, path);
  strcat(to, ".disk");
}

/* writes to the disk what no sync has written yet, in order. */
static void settle(name *n) {
  char to[1100];
  shadow(n->path, to);
  int cache = open(n->path, O_RDONLY), disk = open(to, O_RDWR | O_CREAT, 0600);
  for (range *r = n->first; r && cache >= 0 && disk >= 0; r = r->next) {
    if (r->length < 0) {
      if (ftruncate(disk, r->at)) break;
      continue;
    }
    char *b = malloc(r->length);
    ssize_t got = pread(cache, b, r->length, r->at);
    if (got > 0 && pwrite(disk, b, got, r->at) != got) got = 0;
    free(b);
  }
  if (cache >= 0) close(cache);
  if (disk >= 0) close(disk);
  forget(n);
}

static int fClose(sqlite3_file *f) { return real(f)->pMethods->xClose(real(f)); }
static int fRead(sqlite3_file *f, void *b, int n, sqlite3_int64 at) { return real(f)->pMethods->xRead(real(f), b, n, at); }

static int fWrite(sqlite3_file *f, const void *b, int n, sqlite3_int64 at) {
  name *of = ((file *)f)->of;
  if (!of) return real(f)->pMethods->xWrite(real(f), b, n, at);
  pthread_mutex_lock(&lock);
  int rc = dead() ? SQLITE_IOERR_WRITE : full ? SQLITE_FULL : real(f)->pMethods->xWrite(real(f), b, n, at);
  if (rc == SQLITE_OK) note(of, at, n);
  pthread_mutex_unlock(&lock);
  return rc;
}

static int fTruncate(sqlite3_file *f, sqlite3_int64 size) {
  name *of = ((file *)f)->of;
  if (!of) return real(f)->pMethods->xTruncate(real(f), size);
  pthread_mutex_lock(&lock);
  int rc = dead() ? SQLITE_IOERR_TRUNCATE : real(f)->pMethods->xTruncate(real(f), size);
  if (rc == SQLITE_OK) note(of, size, -1);
  pthread_mutex_unlock(&lock);
  return rc;
}

static int fSync(sqlite3_file *f, int flags) {
  name *of = ((file *)f)->of;
  if (!of) return real(f)->pMethods->xSync(real(f), flags);
  pthread_mutex_lock(&lock);
  int rc = SQLITE_OK;
  if (dead()) {
    rc = SQLITE_IOERR_FSYNC;
  } else {
    syncs++;
    if (fail_count && syncs >= fail_from && syncs < fail_from + fail_count) {
      forget(of);
      rc = SQLITE_IOERR_FSYNC;
    } else {
      settle(of);
    }
  }
  pthread_mutex_unlock(&lock);
  return rc;
}

static int fFileSize(sqlite3_file *f, sqlite3_int64 *n) { return real(f)->pMethods->xFileSize(real(f), n); }
static int fLock(sqlite3_file *f, int n) { return real(f)->pMethods->xLock(real(f), n); }
static int fUnlock(sqlite3_file *f, int n) { return real(f)->pMethods->xUnlock(real(f), n); }
static int fCheck(sqlite3_file *f, int *n) { return real(f)->pMethods->xCheckReservedLock(real(f), n); }
static int fControl(sqlite3_file *f, int op, void *a) { return real(f)->pMethods->xFileControl(real(f), op, a); }
static int fSector(sqlite3_file *f) { return real(f)->pMethods->xSectorSize(real(f)); }
static int fTraits(sqlite3_file *f) { return real(f)->pMethods->xDeviceCharacteristics(real(f)); }
static int fShmMap(sqlite3_file *f, int a, int b, int c, void volatile **d) { return real(f)->pMethods->xShmMap(real(f), a, b, c, d); }
static int fShmLock(sqlite3_file *f, int a, int b, int c) { return real(f)->pMethods->xShmLock(real(f), a, b, c); }
static void fShmBarrier(sqlite3_file *f) { real(f)->pMethods->xShmBarrier(real(f)); }
static int fShmUnmap(sqlite3_file *f, int a) { return real(f)->pMethods->xShmUnmap(real(f), a); }

static const sqlite3_io_methods methods = {
    2,     fClose,   fRead,   fWrite, fTruncate, fSync,   fFileSize, fLock,       fUnlock,
    fCheck, fControl, fSector, fTraits, fShmMap,  fShmLock, fShmBarrier, fShmUnmap, 0, 0,
};

static int vOpen(sqlite3_vfs *v, const char *path, sqlite3_file *f, int flags, int *out) {
  (void)v;
  f->pMethods = 0;
  int rc = under->xOpen(under, path, real(f), flags, out);
  if (rc != SQLITE_OK) return rc;
  pthread_mutex_lock(&lock);
  ((file *)f)->of = path ? find(path) : 0;
  pthread_mutex_unlock(&lock);
  f->pMethods = &methods;
  return SQLITE_OK;
}

static int vDelete(sqlite3_vfs *v, const char *path, int sync) {
  (void)v;
  pthread_mutex_lock(&lock);
  int rc = 10 | (10 << 8);
  if (!dead()) {
    char to[1100];
    shadow(path, to);
    rc = under->xDelete(under, path, sync);
    unlink(to);
    name *n = find(path);
    if (n) forget(n);
  }
  pthread_mutex_unlock(&lock);
  return rc;
}

static int vAccess(sqlite3_vfs *v, const char *path, int flags, int *out) {
  (void)v;
  return under->xAccess(under, path, flags, out);
}

static int vFull(sqlite3_vfs *v, const char *path, int n, char *out) {
  (void)v;
  return under->xFullPathname(under, path, n, out);
}

static sqlite3_vfs layer;

int faultfs_register(void) {
  if (under) return SQLITE_OK;
  under = sqlite3_vfs_find(0);
  layer = *under;
  layer.szOsFile = sizeof(file) + under->szOsFile;
  layer.zName = "faultfs";
  layer.pNext = 0;
  layer.xOpen = vOpen;
  layer.xDelete = vDelete;
  layer.xAccess = vAccess;
  layer.xFullPathname = vFull;
  return sqlite3_vfs_register(&layer, 0);
}

void faultfs_reset(void) {
  pthread_mutex_lock(&lock);
  for (int i = 0; i < known; i++) forget(&names[i]);
  known = 0;
  ops = syncs = fail_from = fail_count = cut_at = 0;
  full = 0;
  pthread_mutex_unlock(&lock);
}

void faultfs_fail_syncs(long from, long count) {
  pthread_mutex_lock(&lock);
  fail_from = from;
  fail_count = count;
  pthread_mutex_unlock(&lock);
}

void faultfs_full(int on) {
  pthread_mutex_lock(&lock);
  full = on;
  pthread_mutex_unlock(&lock);
}

void faultfs_cut(long at) {
  pthread_mutex_lock(&lock);
  cut_at = at;
  pthread_mutex_unlock(&lock);
}

long faultfs_ops(void) {
  pthread_mutex_lock(&lock);
  long n = ops;
  pthread_mutex_unlock(&lock);
  return n;
}

long faultfs_syncs(void) {
  pthread_mutex_lock(&lock);
  long n = syncs;
  pthread_mutex_unlock(&lock);
  return n;
}
