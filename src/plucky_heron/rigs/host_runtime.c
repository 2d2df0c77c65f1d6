/* A simulated controller on this computer: answers sensor datagrams with commands of the pack's policy.
 * The datagram layout stands in docs/rollout-protocol.md. Whatever arrives, or does not, the loop goes on.
 * Usage: runtime STARTER_PROCESS SAMPLE_MICROSECONDS HOLD_MICROSECONDS SAFE_COMMAND...   (prints its UDP port, then serves) */
#define _POSIX_C_SOURCE 200809L
#include "policy.h"

#include <arpa/inet.h>
#include <poll.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { HEAD = 20, COUNTERS = 8, FROM_PLANT_RESTART = 1, FROM_PLANT_LOCK_STEP = 2, FROM_PLANT_END = 4,
       FROM_PLANT_LIMITED = 8, FROM_PLANT_STOP = 16 };
enum { TO_PLANT_HOLDING = 1, TO_PLANT_SAFE = 2 };
enum { RECEIVED, DAMAGED, REPEATED, LATE, LOST, HELD, SAFE, REFUSED };

#define HERON_LIMITED_SHARE 0.25f /* of a command's range about the safe one, while authority is limited */

static const float span[HERON_POLICY_OUTPUTS] = HERON_POLICY_SPAN;
static uint32_t table[256];
static uint32_t counters[COUNTERS];
#if HERON_POLICY_MEMORY > 0
static float memory[HERON_POLICY_MEMORY];
#endif

static void make_table(void)
{
    uint32_t n, k, c;
    for (n = 0; n < 256; n++) {
        c = n;
        for (k = 0; k < 8; k++) {
            c = (c & 1u) ? 0xEDB88320u ^ (c >> 1) : c >> 1;
        }
        table[n] = c;
    }
}

static uint32_t crc32_of(const unsigned char *data, size_t length)
{
    uint32_t c = 0xFFFFFFFFu;
    size_t i;
    for (i = 0; i < length; i++) {
        c = table[(c ^ data[i]) & 0xFFu] ^ (c >> 8);
    }
    return c ^ 0xFFFFFFFFu;
}

static uint32_t read_u32(const unsigned char *p)
{
    return (uint32_t)p[0] | (uint32_t)p[1] << 8 | (uint32_t)p[2] << 16 | (uint32_t)p[3] << 24;
}

static void write_u32(unsigned char *p, uint32_t v)
{
    p[0] = (unsigned char)v;
    p[1] = (unsigned char)(v >> 8);
    p[2] = (unsigned char)(v >> 16);
    p[3] = (unsigned char)(v >> 24);
}

static float read_f32(const unsigned char *p)
{
    uint32_t bits = read_u32(p);
    float value;
    memcpy(&value, &bits, sizeof value);
    return value;
}

static int64_t now_us(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

static void answer(int fd, const struct sockaddr_in *to, const unsigned char *head, unsigned flags, const float *command)
{
    unsigned char out[HEAD + 4 * HERON_POLICY_OUTPUTS + 4 * COUNTERS + 4];
    size_t at = HEAD;
    int i;
    uint32_t bits;
    memcpy(out, "PHC1", 4);
    memcpy(out + 4, head + 4, 12); /* sequence and time stamp of the sensors that are answered */
    out[16] = HERON_POLICY_OUTPUTS & 0xFF;
    out[17] = HERON_POLICY_OUTPUTS >> 8;
    out[18] = (unsigned char)flags;
    out[19] = 0;
    for (i = 0; i < HERON_POLICY_OUTPUTS; i++, at += 4) {
        memcpy(&bits, &command[i], sizeof bits);
        write_u32(out + at, bits);
    }
    for (i = 0; i < COUNTERS; i++, at += 4) {
        write_u32(out + at, counters[i]);
    }
    write_u32(out + at, crc32_of(out, at));
    (void)sendto(fd, out, at + 4, 0, (const struct sockaddr *)to, sizeof *to);
}

int main(int argc, char **argv)
{
    unsigned char in[2048], head[HEAD] = { 0 };
    const size_t wanted = HEAD + 4 * HERON_POLICY_INPUTS + 4;
    float input[HERON_POLICY_INPUTS], command[HERON_POLICY_OUTPUTS], safe[HERON_POLICY_OUTPUTS];
    struct sockaddr_in own, peer, from;
    socklen_t length = sizeof own;
    int64_t sample, hold, last_valid = 0, next_own = 0;
    uint32_t sequence, last_sequence = 0;
    pid_t starter;
    int fd, i, have_peer = 0, begun = 0, lock_step = 0, episode = 0;

    if (argc != 4 + HERON_POLICY_OUTPUTS) {
        fprintf(stderr, "runtime: wanted the starter's process, sample, hold and %d safe commands\n", HERON_POLICY_OUTPUTS);
        return 2;
    }
    starter = (pid_t)atoll(argv[1]);
    sample = atoll(argv[2]);
    hold = atoll(argv[3]);
    for (i = 0; i < HERON_POLICY_OUTPUTS; i++) {
        safe[i] = command[i] = (float)atof(argv[4 + i]);
    }
    make_table();
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
        int64_t now = now_us();
        int timeout = 500;
        if (getppid() != starter) {
            return 0; /* whoever started us is gone, and we were handed on to another process */
        }
        if (have_peer && begun && !lock_step) {
            int64_t left = next_own - now;
            timeout = left <= 0 ? 0 : (int)((left + 999) / 1000);
        }
        if (poll(&waiting, 1, timeout) <= 0) {
            now = now_us();
            if (have_peer && begun && !lock_step && now >= next_own) {
                unsigned flags = TO_PLANT_HOLDING;
                if (now - last_valid > hold) {
                    memcpy(command, safe, sizeof command);
                    flags |= TO_PLANT_SAFE;
                    counters[SAFE]++;
                } else {
                    counters[HELD]++;
                }
                answer(fd, &peer, head, flags, command);
                next_own += sample;
                if (next_own < now) {
                    next_own = now + sample;
                }
            }
            continue;
        }
        length = sizeof from;
        ssize_t got = recvfrom(fd, in, sizeof in, 0, (struct sockaddr *)&from, &length);
        if (got < 0) {
            continue;
        }
        if ((size_t)got != wanted || memcmp(in, "PHS1", 4) != 0 || read_u32(in + got - 4) != crc32_of(in, (size_t)got - 4)
            || (in[16] | in[17] << 8) != HERON_POLICY_INPUTS) {
            counters[DAMAGED]++;
            continue;
        }
        sequence = read_u32(in + 4);
        if (in[18] & FROM_PLANT_END) {
            return 0;
        }
        /* another episode, known by any of its datagrams; without a mark (0) by its first one */
        if (in[19] != 0 ? in[19] != episode : (in[18] & FROM_PLANT_RESTART) != 0) {
            begun = 0;
            episode = in[19];
#if HERON_POLICY_MEMORY > 0
            memset(memory, 0, sizeof memory);
#endif
        }
        if (in[18] & FROM_PLANT_STOP) {
            memcpy(command, safe, sizeof command); /* whatever else it says */
            counters[SAFE]++;
            answer(fd, &from, in, TO_PLANT_HOLDING | TO_PLANT_SAFE, command);
            continue;
        }
        if (begun && sequence == last_sequence) {
            counters[REPEATED]++; /* answered again with the same command, in case the answer was lost */
            answer(fd, &from, in, 0, command);
            continue;
        }
        if (begun && (int32_t)(sequence - last_sequence) < 0) {
            counters[LATE]++;
            continue;
        }
        if (begun) {
            counters[LOST] += sequence - last_sequence - 1u;
        }
        counters[RECEIVED]++;
        begun = have_peer = 1;
        peer = from;
        memcpy(head, in, HEAD);
        last_sequence = sequence;
        lock_step = (in[18] & FROM_PLANT_LOCK_STEP) != 0;
        for (i = 0; i < HERON_POLICY_INPUTS; i++) {
            input[i] = read_f32(in + HEAD + 4 * i);
        }
#if HERON_POLICY_MEMORY > 0
        if (heron_policy(input, memory, command) != 0) {
#else
        if (heron_policy(input, command) != 0) {
#endif
            counters[REFUSED]++; /* not finite: the last command stays, and time runs on towards the safe one */
            answer(fd, &peer, head, TO_PLANT_HOLDING, command);
        } else {
            for (i = 0; (in[18] & FROM_PLANT_LIMITED) && i < HERON_POLICY_OUTPUTS; i++) {
                float most = HERON_LIMITED_SHARE * span[i];
                command[i] = command[i] > safe[i] + most ? safe[i] + most : (command[i] < safe[i] - most ? safe[i] - most : command[i]);
            }
            last_valid = now_us();
            answer(fd, &peer, head, 0, command);
        }
        next_own = now_us() + sample + sample / 2;
    }
}
