/* The floor: the least a client can do. One epoll loop, a stamp after each read, then framing and the text of each chunk.
 *
 * usage: floor PORT STREAMS TOKENS LIMIT_MS     prints: processor time in ns of the streaming part, then one line a
 * stream with its stamps. Ends when every stream has its end marker, or at the limit.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

typedef struct {
    int fd, n, done, headers;
    size_t have;
    char buf[16384];
    int64_t *stamps;
    size_t text;
} Stream;

static int64_t at(clockid_t clock) {
    struct timespec t;
    clock_gettime(clock, &t);
    return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

/* Takes whole chunks of the chunked coding; each of ours holds one event. */
static void parse(Stream *s, int64_t stamp, int tokens) {
    size_t pos = 0;
    if (!s->headers) {
        char *end = memmem(s->buf, s->have, "\r\n\r\n", 4);
        if (!end) return;
        pos = (size_t)(end - s->buf) + 4;
        s->headers = 1;
    }
    for (;;) {
        char *line = memmem(s->buf + pos, s->have - pos, "\r\n", 2);
        if (!line) break;
        size_t size = strtoul(s->buf + pos, NULL, 16), body = (size_t)(line - s->buf) + 2;
        if (s->have < body + size + 2) break;
        if (memmem(s->buf + body, size, "[DONE]", 6)) s->done = 1;
        char *text = memmem(s->buf + body, size, "\"content\":\"", 11);
        if (text && s->n < tokens) {
            char *close = memchr(text + 11, '"', size - (size_t)(text + 11 - s->buf - body));
            if (close) s->text += (size_t)(close - text - 11);
            s->stamps[s->n++] = stamp;
        }
        pos = body + size + 2;
    }
    memmove(s->buf, s->buf + pos, s->have - pos);
    s->have -= pos;
}

int main(int argc, char **argv) {
    if (argc != 5) return 2;
    int port = atoi(argv[1]), n = atoi(argv[2]), tokens = atoi(argv[3]), one = 1, left = n, ep = epoll_create1(0);
    int64_t limit = at(CLOCK_MONOTONIC) + atoll(argv[4]) * 1000000;
    struct rlimit lim = {65536, 65536};
    setrlimit(RLIMIT_NOFILE, &lim);
    Stream *all = calloc((size_t)n, sizeof *all);
    struct sockaddr_in addr = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    for (int i = 0; i < n; i++) {
        all[i].stamps = calloc((size_t)tokens, sizeof(int64_t));
        all[i].fd = socket(AF_INET, SOCK_STREAM, 0);
        if (connect(all[i].fd, (struct sockaddr *)&addr, sizeof addr)) return 1;
        setsockopt(all[i].fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
        struct epoll_event ev = {.events = EPOLLIN, .data.u32 = (uint32_t)i};
        epoll_ctl(ep, EPOLL_CTL_ADD, all[i].fd, &ev);
    }
    int64_t cpu = at(CLOCK_PROCESS_CPUTIME_ID);
    for (int i = 0; i < n; i++) {
        char out[512], body[200];
        int b = snprintf(body, sizeof body, "{\"stream_no\":%d,\"messages\":[],\"stream\":true}", i);
        int h = snprintf(out, sizeof out, "POST /v1/chat/completions HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\n\r\n%s", b, body);
        if (send(all[i].fd, out, (size_t)h, MSG_NOSIGNAL) != h) return 1;
    }
    struct epoll_event got[256];
    while (left > 0) {
        int64_t now = at(CLOCK_MONOTONIC);
        if (now > limit) break;
        int m = epoll_wait(ep, got, 256, (int)((limit - now) / 1000000) + 1);
        for (int i = 0; i < m; i++) {
            Stream *s = &all[got[i].data.u32];
            ssize_t k = recv(s->fd, s->buf + s->have, sizeof s->buf - s->have, MSG_DONTWAIT);
            int64_t stamp = at(CLOCK_MONOTONIC);
            if (k > 0) s->have += (size_t)k;
            else if (k < 0 && (errno == EAGAIN || errno == EINTR)) continue;
            else s->done = 1;
            parse(s, stamp, tokens);
            if (s->done) { epoll_ctl(ep, EPOLL_CTL_DEL, s->fd, NULL); close(s->fd); left--; }
        }
    }
    cpu = at(CLOCK_PROCESS_CPUTIME_ID) - cpu;
    printf("%lld\n", (long long)cpu);
    for (int i = 0; i < n; i++) {
        for (int k = 0; k < all[i].n; k++) printf(k ? " %lld" : "%lld", (long long)all[i].stamps[k]);
        printf("\n");
    }
    return 0;
}
