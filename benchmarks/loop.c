/* What one would write by hand in C for the benchmark: the same queues, and nothing else.
 *
 * Least busy of all replicas by a scan, the next completion by a scan over what each replica has next; CPU
 * sharing by virtual time with one heap of running requests a replica, one heap of waiting ones, a linked
 * backlog. Of equals the one chosen longest ago. No ties of instants, no integrals, no time-outs, no scaling: a floor for the time that the work itself takes.
 */
#include <math.h>
#include <stdlib.h>

typedef struct { double key; int request; } entry;
typedef struct {
    double v, v_at_s, due_s;
    long asked; /* the request for which it was chosen last, from 1 */
    int busy, in_slots, n_running, n_waiting, turn_head, turn_tail, backlog_head, backlog_tail;
    entry *running, *waiting;
} replica;

static void push(entry *heap, int n, double key, int request) {
    while (n) {
        int parent = (n - 1) >> 1;
        if (heap[parent].key <= key) break;
        heap[n] = heap[parent];
        n = parent;
    }
    heap[n].key = key;
    heap[n].request = request;
}

static int pop(entry *heap, int n) { /* n: entries before */
    int first = heap[0].request, at = 0;
    entry last = heap[--n];
    for (;;) {
        int child = 2 * at + 1;
        if (child >= n) break;
        if (child + 1 < n && heap[child + 1].key < heap[child].key) child++;
        if (heap[child].key >= last.key) break;
        heap[at] = heap[child];
        at = child;
    }
    heap[at] = last;
    return first;
}

typedef struct {
    int slots, threads, backlog;
    double *rate; /* [slots + 1] */
    const double *cpu_s, *wait_s;
    double *slot_at_s;
    int *link;
} world;

static void catch_up(const world *w, replica *r, double now_s) {
    if (r->n_running) r->v += (now_s - r->v_at_s) * w->rate[r->n_running];
    else r->v = 0.0;
    r->v_at_s = now_s;
}

static void start_cpu(const world *w, replica *r, int i, double now_s) {
    catch_up(w, r, now_s);
    push(r->running, r->n_running++, r->v + w->cpu_s[i], i);
}

static void take_slot(const world *w, replica *r, int i, double now_s) {
    w->slot_at_s[i] = now_s;
    r->in_slots++;
    if (w->cpu_s[i] == 0.0) push(r->waiting, r->n_waiting++, now_s + w->wait_s[i], i);
    else if (r->n_running < w->threads) start_cpu(w, r, i, now_s);
    else {
        w->link[i] = -1;
        if (r->turn_head < 0) r->turn_head = i; else w->link[r->turn_tail] = i;
        r->turn_tail = i;
    }
}

static void set_due(const world *w, replica *r) {
    r->due_s = INFINITY;
    if (r->n_running) r->due_s = r->v_at_s + (r->running[0].key - r->v) / w->rate[r->n_running];
    if (r->n_waiting && r->waiting[0].key < r->due_s) r->due_s = r->waiting[0].key;
}

/* Replays n requests on `replicas` replicas; writes the latency, the time without a slot and the replica (from 1,
 * 0: refused) of each. */
void replay(long n, const double *at_s, const double *cpu_s, const double *wait_s, int replicas, int slots, int threads,
            int backlog, double cores, double *latency_s, double *queued_s, int *chosen) {
    world w = {slots, threads, backlog, malloc((slots + 1) * sizeof(double)), cpu_s, wait_s,
               malloc(n * sizeof(double)), malloc(n * sizeof(int))};
    replica *all = calloc(replicas, sizeof(replica));
    for (int k = 0; k <= slots; k++) w.rate[k] = k <= cores ? 1.0 : cores / k;
    for (int k = 0; k < replicas; k++) {
        all[k].running = malloc(slots * sizeof(entry));
        all[k].waiting = malloc(slots * sizeof(entry));
        all[k].turn_head = all[k].backlog_head = -1;
        all[k].due_s = INFINITY;
    }
    for (long i = 0;;) {
        int next = 0;
        for (int k = 1; k < replicas; k++)
            if (all[k].due_s < all[next].due_s) next = k;
        double arrival_s = i < n ? at_s[i] : INFINITY;
        replica *r = &all[next];
        if (r->due_s <= arrival_s) {
            double now_s = r->due_s;
            if (isinf(now_s)) break;
            int done;
            if (r->n_waiting && r->waiting[0].key == now_s) done = pop(r->waiting, r->n_waiting--);
            else {
                catch_up(&w, r, now_s);
                done = pop(r->running, r->n_running--);
                if (r->turn_head >= 0) {
                    int turn = r->turn_head;
                    r->turn_head = w.link[turn];
                    start_cpu(&w, r, turn, now_s);
                }
                if (wait_s[done] > 0.0) {
                    push(r->waiting, r->n_waiting++, now_s + wait_s[done], done);
                    set_due(&w, r);
                    continue;
                }
            }
            latency_s[done] = now_s - at_s[done];
            queued_s[done] = w.slot_at_s[done] - at_s[done];
            chosen[done] = next + 1;
            r->busy--;
            r->in_slots--;
            if (r->backlog_head >= 0) {
                int queued = r->backlog_head;
                r->backlog_head = w.link[queued];
                take_slot(&w, r, queued, now_s);
            }
            set_due(&w, r);
        } else {
            int least = 0;
            for (int k = 1; k < replicas; k++)
                if (all[k].busy < all[least].busy
                    || (all[k].busy == all[least].busy && all[k].asked < all[least].asked)) least = k;
            r = &all[least];
            r->asked = i + 1;
            if (r->in_slots < slots) {
                r->busy++;
                take_slot(&w, r, i, arrival_s);
                set_due(&w, r);
            } else if (backlog < 0 || r->busy - slots < backlog) {
                r->busy++;
                w.link[i] = -1;
                if (r->backlog_head < 0) r->backlog_head = i; else w.link[r->backlog_tail] = i;
                r->backlog_tail = i;
            } else {
                latency_s[i] = queued_s[i] = 0.0;
                chosen[i] = 0;
            }
            i++;
        }
    }
    for (int k = 0; k < replicas; k++) { free(all[k].running); free(all[k].waiting); }
    free(all); free(w.rate); free(w.slot_at_s); free(w.link);
}
