/* The bare loop that a tick is measured against: opens, reads and closes each /proc/PID/stat.
 * Arguments: rounds, and seconds to rest before each, as a capture does: caches are cold by then.
 * Prints its processor time in seconds for one round, the mean over the rounds. */
#define _DEFAULT_SOURCE
#include <ctype.h>
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <unistd.h>

static double used_s(void) {
    struct rusage usage;
    getrusage(RUSAGE_SELF, &usage);
    return usage.ru_utime.tv_sec + usage.ru_stime.tv_sec +
           (usage.ru_utime.tv_usec + usage.ru_stime.tv_usec) / 1e6;
}

int main(int count, char **arguments) {
    int rounds = count > 1 ? atoi(arguments[1]) : 20;
    double rest_s = count > 2 ? atof(arguments[2]) : 0.0;
    char path[300], text[4096];
    double began = used_s();
    for (int round = 0; round < rounds; round++) {
        usleep((useconds_t)(rest_s * 1e6));
        DIR *proc = opendir("/proc");
        struct dirent *entry;
        while (proc && (entry = readdir(proc))) {
            if (!isdigit((unsigned char)entry->d_name[0])) continue;
            snprintf(path, sizeof path, "/proc/%s/stat", entry->d_name);
            int file = open(path, O_RDONLY);
            if (file < 0) continue;
            if (read(file, text, sizeof text) < 0) perror(path);
            close(file);
        }
        if (proc) closedir(proc);
    }
    printf("%.9f\n", (used_s() - began) / rounds);
    return 0;
}
