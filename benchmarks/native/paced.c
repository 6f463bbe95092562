/* Ground truth for the driver: a server that emits tokens at scheduled times and stamps each send on CLOCK_MONOTONIC.
 *
 * usage: paced STREAMS TOKENS PERIOD_NS burst|spread TOTAL 0|1    prints its port, serves rounds until standard input closes;
 *
 * A round begins when STREAMS requests have come in, each with `"stream_no":N` in its body. Token k of stream i is due
 * at start + phase(i) + k * PERIOD; phase is 0 in a burst and i/STREAMS of a period when spread. After the last token
 * of all streams and their ends, `GET /sent` on a connection of its own gives the stamps as text, one stream a line.
 * With STREAMS 0 every request starts on its own schedule at once, and /sent has the receive time first (open loop).
 */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/timerfd.h>
#include <time.h>
#include <unistd.h>

#define MAX_CONN 8192
#define CHUNK 300

typedef struct {
    int fd, no, used;
    size_t have, want;      /* bytes of the request so far, and in all */
    char head[4096];        /* start of the request: headers and the number are in it */
    int waiting;            /* a complete request that waits for its round */
} Conn;

typedef struct {
    int fd, sent;
    int64_t start, got;
    int64_t *stamps;
} Stream;

static Conn conns[MAX_CONN];
static Stream *streams;
static int want_streams, tokens, is_burst, arrived, active, open_loop, total_streams;
static int64_t period;
static int ep, ls, tfd, one = 1;
static char chunk[CHUNK + 64];
static size_t chunk_len;

static int64_t now_ns(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

static void make_chunk(void) {
    char body[CHUNK + 1];
    int n = snprintf(body, sizeof body,
        "data: {\"id\":\"paced\",\"object\":\"chat.completion.chunk\",\"created\":1,\"model\":\"paced\",\"choices\":"
        "[{\"index\":0,\"delta\":{\"content\":\" bada\"},\"finish_reason\":null}],\"pad\":\"");
    memset(body + n, 'x', CHUNK - n);
    memcpy(body + CHUNK - 4, "\"}\n\n", 4);
    chunk_len = (size_t)snprintf(chunk, sizeof chunk, "%x\r\n%.*s\r\n", CHUNK, CHUNK, body);
}

static void send_all(int fd, const char *data, size_t n) {
    while (n > 0) {
        ssize_t s = send(fd, data, n, MSG_NOSIGNAL);
        if (s > 0) { data += s; n -= (size_t)s; continue; }
        if (s < 0 && (errno == EAGAIN || errno == EINTR)) { usleep(50); continue; }
        return;
    }
}

static void send_event(int fd, const char *text) {
    char out[512];
    int n = snprintf(out, sizeof out, "%zx\r\n%s\r\n", strlen(text), text);
    send_all(fd, out, (size_t)n);
}

static void begin(int no, int fd, int64_t start) {
    static const char head[] =
        "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nTransfer-Encoding: chunked\r\n\r\n";
    streams[no].fd = fd;
    streams[no].sent = 0;
    streams[no].start = start;
    send_all(fd, head, sizeof head - 1);
    active++;
}

static void finish(Stream *s) {
    char usage[200];
    send_event(s->fd, "data: {\"choices\":[{\"index\":0,\"delta\":{},\"finish_reason\":\"length\"}]}\n\n");
    snprintf(usage, sizeof usage,
        "data: {\"choices\":[],\"usage\":{\"prompt_tokens\":10,\"completion_tokens\":%d}}\n\n", tokens);
    send_event(s->fd, usage);
    send_event(s->fd, "data: [DONE]\n\n");
    send_all(s->fd, "0\r\n\r\n", 5);
    active--;
}

static void tell(int fd) {
    size_t room = 64 + (size_t)total_streams * ((size_t)tokens + 2) * 21;
    char *text = malloc(room);
    size_t n = 0;
    for (int i = 0; i < total_streams; i++) {
        n += (size_t)sprintf(text + n, "%lld", (long long)streams[i].got);
        for (int k = 0; k < streams[i].sent; k++) n += (size_t)sprintf(text + n, " %lld", (long long)streams[i].stamps[k]);
        text[n++] = '\n';
    }
    char head[200];
    int h = snprintf(head, sizeof head, "HTTP/1.1 200 OK\r\nContent-Length: %zu\r\nConnection: close\r\n\r\n", n);
    send_all(fd, head, (size_t)h);
    send_all(fd, text, n);
    free(text);
}

static void start_round(void) {
    int64_t start = now_ns() + 30000000;
    for (int i = 0; i < MAX_CONN; i++) {
        if (!conns[i].used || !conns[i].waiting) continue;
        conns[i].waiting = 0;
        int64_t phase = is_burst ? 0 : period * conns[i].no / want_streams;
        begin(conns[i].no, conns[i].fd, start + phase);
    }
    arrived = 0;
}

static void request(Conn *c) {
    int64_t got = now_ns();
    if (!strncmp(c->head, "GET ", 4)) { tell(c->fd); c->have = c->want = 0; return; }
    char *mark = strstr(c->head, "\"stream_no\":");
    c->no = mark ? atoi(mark + 12) : 0;
    c->have = c->want = 0;
    if (c->no < 0 || c->no >= total_streams) return;
    streams[c->no].got = got;
    if (open_loop) { begin(c->no, c->fd, got + 2000000); return; }
    c->waiting = 1;
    if (++arrived == want_streams) start_round();
}

static void readable(Conn *c) {
    char buf[65536];
    ssize_t n = recv(c->fd, buf, sizeof buf, 0);
    if (n <= 0) {
        if (n < 0 && (errno == EAGAIN || errno == EINTR)) return;
        close(c->fd);
        c->used = 0;
        if (c->waiting) arrived--;
        c->waiting = 0;
        return;
    }
    size_t keep = sizeof c->head - 1;
    if (c->have < keep) {
        size_t k = (size_t)n < keep - c->have ? (size_t)n : keep - c->have;
        memcpy(c->head + c->have, buf, k);
        c->head[c->have + k] = 0;
    }
    c->have += (size_t)n;
    char *end = strstr(c->head, "\r\n\r\n");
    if (!end) return;
    char *length = strcasestr(c->head, "content-length:");
    c->want = (size_t)(end - c->head) + 4 + (length && length < end ? (size_t)atol(length + 15) : 0);
    if (c->have >= c->want) request(c);
}

/* Takes what has come in, waiting for it for `wait` milliseconds; -1 waits for ever. */
static void serve(int wait) {
    struct epoll_event ev = {.events = EPOLLIN}, got[256];
    int n = epoll_wait(ep, got, 256, wait);
    for (int i = 0; i < n; i++) {
        uint64_t id = got[i].data.u64;
        if (id == (1u << 30) + 2) {
            char b[16];
            if (read(0, b, sizeof b) <= 0) exit(0);
        } else if (id == (1u << 30) + 1) {
            uint64_t t;
            if (read(tfd, &t, sizeof t)) {}
        } else if (id == 1u << 30) {
            int fd;
            while ((fd = accept4(ls, NULL, NULL, SOCK_NONBLOCK)) >= 0) {
                int slot = 0;
                while (slot < MAX_CONN && conns[slot].used) slot++;
                if (slot == MAX_CONN) { close(fd); continue; }
                setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
                memset(&conns[slot], 0, sizeof conns[slot]);
                conns[slot].fd = fd;
                conns[slot].used = 1;
                ev.data.u64 = (uint64_t)slot;
                epoll_ctl(ep, EPOLL_CTL_ADD, fd, &ev);
            }
        } else if (conns[id].used) {
            readable(&conns[id]);
        }
    }
}

/* Sends what is due; gives the next due time, or 0 where nothing is left. */
static int64_t emit(int64_t now) {
    int64_t next = 0;
    for (int i = 0; i < total_streams; i++) {
        Stream *s = &streams[i];
        if (s->fd < 0) continue;
        while (s->sent < tokens && s->start + s->sent * period <= now) {
            s->stamps[s->sent++] = now_ns();
            send_all(s->fd, chunk, chunk_len);
        }
        if (s->sent == tokens) {
            finish(s);
            s->fd = -1;
            serve(0); /* what follows on other streams is to be stamped now, and not when all have ended */
            continue;
        }
        int64_t due = s->start + s->sent * period;
        if (!next || due < next) next = due;
    }
    return next;
}

int main(int argc, char **argv) {
    if (argc != 7) return 2;
    want_streams = atoi(argv[1]);
    tokens = atoi(argv[2]);
    period = atoll(argv[3]);
    is_burst = !strcmp(argv[4], "burst");
    total_streams = atoi(argv[5]);
    int spins = atoi(argv[6]);
    open_loop = want_streams == 0;
    prctl(PR_SET_TIMERSLACK, 1);
    struct rlimit lim = {65536, 65536};
    setrlimit(RLIMIT_NOFILE, &lim);
    make_chunk();
    streams = calloc((size_t)total_streams, sizeof *streams);
    for (int i = 0; i < total_streams; i++) {
        streams[i].fd = -1;
        streams[i].stamps = calloc((size_t)tokens, sizeof(int64_t));
    }
    ls = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    ep = epoll_create1(0);
    tfd = timerfd_create(CLOCK_MONOTONIC, TFD_NONBLOCK);
    struct sockaddr_in addr = {.sin_family = AF_INET, .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    socklen_t len = sizeof addr;
    setsockopt(ls, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
    if (bind(ls, (struct sockaddr *)&addr, sizeof addr) || listen(ls, 4096)) return 1;
    getsockname(ls, (struct sockaddr *)&addr, &len);
    printf("%d\n", ntohs(addr.sin_port));
    fflush(stdout);
    struct epoll_event ev = {.events = EPOLLIN, .data.u64 = 1u << 30};
    epoll_ctl(ep, EPOLL_CTL_ADD, ls, &ev);
    ev.data.u64 = (1u << 30) + 1;
    epoll_ctl(ep, EPOLL_CTL_ADD, tfd, &ev);
    ev.data.u64 = (1u << 30) + 2;
    epoll_ctl(ep, EPOLL_CTL_ADD, 0, &ev);
    int64_t armed = 0;
    for (;;) {
        /* One by one, the server's own waking (0.1 to 0.2 ms on a virtual machine) would pass for the client's. */
        serve(spins ? 0 : -1);
        int64_t next = active ? emit(now_ns()) : 0;
        if (next && next != armed) {
            struct itimerspec spec = {.it_value = {next / 1000000000, next % 1000000000}};
            timerfd_settime(tfd, TFD_TIMER_ABSTIME, &spec, NULL);
            armed = next;
        }
    }
}
