/* Loaded before other libraries into the programs of a step when its clock, the order of directories or the number of
 * its user is varied.
 *
 *   EMBRAK_CLOCK_SHIFT=SECONDS   the time of day is moved by so much
 *   EMBRAK_CLOCK_FIXED=SECONDS   the time of day stands still at this second since 1970
 *   EMBRAK_ORDER=reverse         directories are read in the reverse order of their names
 *   EMBRAK_USER_NUMBER=NUMBER    who asks is told this as the number of user and group; what may be done stays the same
 *
 * Programs that are linked statically or ask the kernel themselves do not see it, and times of files stay the kernel's.
 */
#define _GNU_SOURCE
#include <dirent.h>
#include <dlfcn.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <time.h>
#include <unistd.h>

static void changed(struct timespec *t) {
    const char *fixed = getenv("EMBRAK_CLOCK_FIXED"), *shift = getenv("EMBRAK_CLOCK_SHIFT");
    if (fixed) {
        t->tv_sec = atoll(fixed);
        t->tv_nsec = 0;
    } else if (shift) {
        t->tv_sec += atoll(shift);
    }
}

int clock_gettime(clockid_t clock, struct timespec *t) {
    int result = (int)syscall(SYS_clock_gettime, clock, t);
    if (result == 0 && (clock == CLOCK_REALTIME || clock == CLOCK_REALTIME_COARSE)) changed(t);
    return result;
}

time_t time(time_t *out) {
    struct timespec t;
    syscall(SYS_clock_gettime, CLOCK_REALTIME, &t);
    changed(&t);
    if (out) *out = t.tv_sec;
    return t.tv_sec;
}

int gettimeofday(struct timeval *restrict out, void *restrict zone) {
    struct timespec t;
    (void)zone;
    syscall(SYS_clock_gettime, CLOCK_REALTIME, &t);
    changed(&t);
    out->tv_sec = t.tv_sec;
    out->tv_usec = t.tv_nsec / 1000;
    return 0;
}

static unsigned number(long call) {
    const char *told = getenv("EMBRAK_USER_NUMBER");
    return told ? (unsigned)atol(told) : (unsigned)syscall(call);
}

uid_t getuid(void) { return number(SYS_getuid); }
uid_t geteuid(void) { return number(SYS_geteuid); }
gid_t getgid(void) { return number(SYS_getgid); }
gid_t getegid(void) { return number(SYS_getegid); }

/* One list for each directory that is open. */
struct list {
    DIR *dir;
    struct dirent **all;
    size_t count, at;
    struct list *next;
};
static struct list *lists;

static int backwards(const void *a, const void *b) {
    return -strcmp((*(struct dirent *const *)a)->d_name, (*(struct dirent *const *)b)->d_name);
}

struct dirent *readdir(DIR *dir) {
    static struct dirent *(*real)(DIR *);
    if (!real) real = (struct dirent *(*)(DIR *))dlsym(RTLD_NEXT, "readdir");
    if (!getenv("EMBRAK_ORDER")) return real(dir);
    struct list *l;
    for (l = lists; l && l->dir != dir; l = l->next) {}
    if (!l) {
        struct dirent *entry;
        l = calloc(1, sizeof *l);
        if (!l) return real(dir);
        l->dir = dir;
        l->next = lists;
        lists = l;
        while ((entry = real(dir))) {
            struct dirent **more = realloc(l->all, (l->count + 1) * sizeof *more);
            struct dirent *copy = malloc(entry->d_reclen);
            if (!more || !copy) break;
            l->all = more;
            memcpy(copy, entry, entry->d_reclen);
            l->all[l->count++] = copy;
        }
        if (l->count) qsort(l->all, l->count, sizeof *l->all, backwards);
    }
    return l->at < l->count ? l->all[l->at++] : NULL;
}

#if __SIZEOF_LONG__ == 8
/* The same structure there, and often the name that is asked for. */
struct dirent64 *readdir64(DIR *dir) { return (struct dirent64 *)readdir(dir); }
#endif

int closedir(DIR *dir) {
    static int (*real)(DIR *);
    if (!real) real = (int (*)(DIR *))dlsym(RTLD_NEXT, "closedir");
    for (struct list **at = &lists; *at; at = &(*at)->next) {
        if ((*at)->dir == dir) {
            struct list *gone = *at;
            *at = gone->next;
            for (size_t n = 0; n < gone->count; n++) free(gone->all[n]);
            free(gone->all);
            free(gone);
            break;
        }
    }
    return real(dir);
}
