/* The least a watcher can do (inotify(7)): it renames each file that was
 * closed after writing, or starts a program for it.
 *
 *   watch rename IN OUT COUNT
 *   watch spawn  IN PROGRAM COUNT     PROGRAM gets the file's path
 *
 * It prints "ready" when it watches, and ends after COUNT files. */
#include <limits.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/inotify.h>
#include <sys/wait.h>
#include <unistd.h>

extern char **environ;

static void fail(const char *what) {
    perror(what);
    exit(1);
}

int main(int argc, char **argv) {
    if (argc != 5) {
        fprintf(stderr, "watch rename|spawn IN OUT|PROGRAM COUNT\n");
        return 2;
    }
    int spawns = strcmp(argv[1], "spawn") == 0;
    long left = atol(argv[4]);
    int fd = inotify_init1(IN_CLOEXEC);
    if (fd < 0 || inotify_add_watch(fd, argv[2], IN_CLOSE_WRITE | IN_MOVED_TO) < 0)
        fail("inotify");
    puts("ready");
    fflush(stdout);
    static char buf[1 << 17] __attribute__((aligned(8)));
    while (left > 0) {
        ssize_t n = read(fd, buf, sizeof buf);
        if (n <= 0)
            fail("read");
        for (char *p = buf; p < buf + n;) {
            struct inotify_event *e = (struct inotify_event *)p;
            p += sizeof *e + e->len;
            if (e->len == 0)
                continue;
            char from[PATH_MAX], to[PATH_MAX];
            snprintf(from, sizeof from, "%s/%s", argv[2], e->name);
            if (spawns) {
                char *words[] = {argv[3], from, NULL};
                pid_t pid;
                if (posix_spawn(&pid, argv[3], NULL, NULL, words, environ) != 0)
                    fail("spawn");
                waitpid(pid, NULL, 0);
            } else {
                snprintf(to, sizeof to, "%s/%s", argv[3], e->name);
                if (rename(from, to) != 0)
                    fail("rename");
            }
            left--;
        }
    }
    return 0;
}
