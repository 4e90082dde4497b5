/* Makes a disk slower: each sync takes 2 ms more, as on disks that are nothing special. The
   bench compiles it and has services load it before the C library. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <time.h>

static int slowly(const char *name, int fd) {
	int (*sync)(int) = (int (*)(int))dlsym(RTLD_NEXT, name);
	struct timespec more = {0, 2000000};
	int result = sync(fd);
	while (nanosleep(&more, &more) != 0) {
	}
	return result;
}

int fsync(int fd) { return slowly("fsync", fd); }

int fdatasync(int fd) { return slowly("fdatasync", fd); }
