/* A simulated controller on this computer: the pack's policy and the reference protocol, over UDP on the loopback interface.
 * Usage: runtime STARTER_PROCESS SAMPLE_MICROSECONDS HOLD_MICROSECONDS SAFE_COMMAND...   (prints its UDP port, then serves) */
#define _POSIX_C_SOURCE 200809L
#include "runtime.h"

#include <arpa/inet.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

int64_t heron_runtime_now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

int main(int argc, char **argv)
{
    static heron_runtime runtime;
    static uint8_t in[HERON_IN_SIZE + 1024], out[HERON_OUT_SIZE];
    float safe[HERON_SAFE];
    struct sockaddr_in own, peer, from;
    socklen_t length = sizeof own;
    pid_t starter;
    int fd, i;

    if (argc != 4 + HERON_SAFE) {
        fprintf(stderr, "runtime: wanted the starter's process, sample, hold and %d safe commands\n", HERON_SAFE);
        return 2;
    }
    starter = (pid_t)atoll(argv[1]);
    for (i = 0; i < HERON_SAFE; i++) {
        safe[i] = (float)atof(argv[4 + i]);
    }
    heron_runtime_init(&runtime, atoll(argv[2]), atoll(argv[3]), safe);
    fd = socket(AF_INET, SOCK_DGRAM, 0);
    memset(&own, 0, sizeof own);
    memset(&peer, 0, sizeof peer);
    own.sin_family = AF_INET;
    own.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    if (fd < 0 || bind(fd, (struct sockaddr *)&own, sizeof own) != 0 || getsockname(fd, (struct sockaddr *)&own, &length) != 0) {
        perror("runtime: no socket");
        return 2;
    }
    printf("%u\n", (unsigned)ntohs(own.sin_port));
    fflush(stdout);

    for (;;) {
        struct pollfd waiting = { fd, POLLIN, 0 };
        int64_t left = heron_runtime_wait(&runtime, heron_runtime_now());
        ssize_t got;
        size_t size;
        if (getppid() != starter) {
            return 0; /* whoever started us is gone, and we were handed on to another process */
        }
        if (poll(&waiting, 1, left < 0 || left > 500000 ? 500 : (int)((left + 999) / 1000)) <= 0) {
            size = heron_runtime_idle(&runtime, heron_runtime_now(), out);
            if (size > 0) {
                (void)sendto(fd, out, size, 0, (const struct sockaddr *)&peer, sizeof peer);
            }
            continue;
        }
        length = sizeof from;
        got = recvfrom(fd, in, sizeof in, 0, (struct sockaddr *)&from, &length);
        if (got < 0) {
            continue;
        }
        size = heron_runtime_take(&runtime, in, (size_t)got, heron_runtime_now(), out);
        if (runtime.ended) {
            return 0;
        }
        if (size > 0) {
            peer = from; /* the address that last sent a valid datagram */
            (void)sendto(fd, out, size, 0, (const struct sockaddr *)&peer, sizeof peer);
        }
    }
}
