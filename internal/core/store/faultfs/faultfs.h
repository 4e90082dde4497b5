/* What this layer uses of SQLite's interface to files (sqlite3.h, "OS Interface Objects"),
   which SQLite promises not to change. */
#include <stdint.h>

typedef int64_t sqlite3_int64;
typedef struct sqlite3_file sqlite3_file;
typedef struct sqlite3_vfs sqlite3_vfs;

typedef struct sqlite3_io_methods {
  int iVersion;
  int (*xClose)(sqlite3_file *);
  int (*xRead)(sqlite3_file *, void *, int, sqlite3_int64);
  int (*xWrite)(sqlite3_file *, const void *, int, sqlite3_int64);
  int (*xTruncate)(sqlite3_file *, sqlite3_int64);
  int (*xSync)(sqlite3_file *, int);
  int (*xFileSize)(sqlite3_file *, sqlite3_int64 *);
  int (*xLock)(sqlite3_file *, int);
  int (*xUnlock)(sqlite3_file *, int);
  int (*xCheckReservedLock)(sqlite3_file *, int *);
  int (*xFileControl)(sqlite3_file *, int, void *);
  int (*xSectorSize)(sqlite3_file *);
  int (*xDeviceCharacteristics)(sqlite3_file *);
  int (*xShmMap)(sqlite3_file *, int, int, int, void volatile **);
  int (*xShmLock)(sqlite3_file *, int, int, int);
  void (*xShmBarrier)(sqlite3_file *);
  int (*xShmUnmap)(sqlite3_file *, int);
  int (*xFetch)(sqlite3_file *, sqlite3_int64, int, void **);
  int (*xUnfetch)(sqlite3_file *, sqlite3_int64, void *);
} sqlite3_io_methods;

struct sqlite3_file {
  const sqlite3_io_methods *pMethods;
};

struct sqlite3_vfs {
  int iVersion;
  int szOsFile;
  int mxPathname;
  sqlite3_vfs *pNext;
  const char *zName;
  void *pAppData;
  int (*xOpen)(sqlite3_vfs *, const char *, sqlite3_file *, int, int *);
  int (*xDelete)(sqlite3_vfs *, const char *, int);
  int (*xAccess)(sqlite3_vfs *, const char *, int, int *);
  int (*xFullPathname)(sqlite3_vfs *, const char *, int, char *);
  void *rest[14]; /* of later versions, passed on as they are */
};

extern sqlite3_vfs *sqlite3_vfs_find(const char *);
extern int sqlite3_vfs_register(sqlite3_vfs *, int);

#define SQLITE_OK 0
#define SQLITE_IOERR_WRITE (10 | (3 << 8))
#define SQLITE_IOERR_FSYNC (10 | (4 << 8))
#define SQLITE_IOERR_TRUNCATE (10 | (6 << 8))
#define SQLITE_FULL 13

int faultfs_register(void);
void faultfs_reset(void);
void faultfs_fail_syncs(long from, long count);
void faultfs_full(int on);
void faultfs_cut(long at);
long faultfs_ops(void);
long faultfs_syncs(void);
