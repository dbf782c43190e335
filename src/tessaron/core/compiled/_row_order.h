/* The rows of structures that contain themselves, in the order of the rows they stand in; see row_order.py.
 *
 * A row comes before those inside of it. So what stands in it behind these comes late, and what is below is not in the
 * order of its rows. The rows of such a structure keep their numbers; all levels below get new ones.
 */

static int compare_words(const void *a, const void *b) {
    uint64_t x = *(const uint64_t *)a, y = *(const uint64_t *)b;
    return x < y ? -1 : x > y;
}

/* Returns the order of some rows that are not in order, rows that are the same as they come; NULL without memory. */
static int32_t *sorted_order(const int32_t *rows, size_t count) {
    uint64_t *words = malloc(count * sizeof(uint64_t));
    int32_t *order = malloc(count * sizeof(int32_t));
    if (words && order) {
        for (size_t i = 0; i < count; i++) words[i] = (uint64_t)(uint32_t)rows[i] << 32 | i;
        qsort(words, count, sizeof(uint64_t), compare_words);
        for (size_t i = 0; i < count; i++) order[i] = (int32_t)(words[i] & 0xffffffff);
    } else {
        free(order);
        order = NULL;
    }
    free(words);
    return order;
}

/* Puts the cells of a buffer in an order; one that holds nothing stays. */
static int reorder(Buffer *b, size_t width, const int32_t *order, size_t count) {
    if (b->used != count * width || !count) return OK;
    char *made = malloc(b->used);
    if (!made) return NO_MEMORY;
    for (size_t i = 0; i < count; i++) memcpy(made + i * width, b->at + (size_t)order[i] * width, width);
    memcpy(b->at, made, b->used);
    free(made);
    return OK;
}

static inline int lane_of(int kind) { /* 1 booleans, 2 integers, 3 numbers, 4 texts, 0 none */
    return kind == K_BOOLEAN ? 1 : kind == K_INTEGER ? 2 : kind == K_LONG_INTEGER || kind == K_FRACTION ? 3 : kind == K_TEXT ? 4 : 0;
}

/* Puts the values of a node, which stand by kind, in the order of its occurrences. */
static int reorder_values(Node *n, const int32_t *order, size_t count) {
    int32_t *places = malloc(count * sizeof(int32_t)), *chosen = malloc(count * sizeof(int32_t));
    int status = places && chosen ? OK : NO_MEMORY;
    for (int lane = 1; !status && lane <= 4; lane++) {
        int32_t met = 0;
        size_t found = 0;
        for (size_t i = 0; i < count; i++) places[i] = lane_of(AT(n->kinds, uint8_t, i)) == lane ? met++ : -1;
        if (!met) continue;
        for (size_t i = 0; i < count; i++) if (places[order[i]] >= 0) chosen[found++] = places[order[i]];
        status = lane == 1 ? reorder(&n->booleans, 1, chosen, found) : lane == 2 ? reorder(&n->integers, 8, chosen, found)
                 : lane == 3 ? reorder(&n->numbers.refs, 8, chosen, found) : reorder(&n->texts.refs, 8, chosen, found);
    }
    free(places);
    free(chosen);
    return status;
}

/* Gives rows their new numbers, if they have any; says whether they rise. */
static int renumbered(Buffer *rows, const int32_t *places) {
    int rises = 1;
    for (size_t i = 0; i < rows->used / 4; i++) {
        if (places) AT(*rows, int32_t, i) = places[AT(*rows, int32_t, i)];
        rises &= i == 0 || AT(*rows, int32_t, i - 1) <= AT(*rows, int32_t, i);
    }
    return rises;
}

static int sort_occurrences(Node *n, const int32_t *places) {
    size_t count = n->kinds.used;
    if (!count || (n->in_every_row && !places)) return OK;
    if (n->in_every_row && list_rows(n)) return NO_MEMORY;
    n->is_unordered = 0;
    if (renumbered(&n->rows, places)) return OK;
    int32_t *order = sorted_order((const int32_t *)n->rows.at, count);
    int status = !order || reorder_values(n, order, count) || reorder(&n->rows, 4, order, count) ||
                 reorder(&n->positions, 4, order, count) || reorder(&n->kinds, 1, order, count);
    free(order);
    return status ? NO_MEMORY : OK;
}

static int sort_kept_texts(Buffer *rows, Texts *texts, const int32_t *places) {
    size_t count = rows->used / 4;
    if (renumbered(rows, places)) return OK;
    int32_t *order = sorted_order((const int32_t *)rows->at, count);
    int status = !order || reorder(&texts->refs, 8, order, count) || reorder(rows, 4, order, count);
    free(order);
    return status ? NO_MEMORY : OK;
}

/* Orders the rows of a level by the rows they stand in; returns their new numbers, NULL without memory. */
static int32_t *order_level(Node *n, const int32_t *above) {
    size_t count = (size_t)n->row_count;
    int32_t *places = malloc(count * sizeof(int32_t) + 1);
    if (!places) return NULL;
    for (size_t i = 0; i < count; i++) places[i] = (int32_t)i;
    if (renumbered(&n->parent_rows, above)) return places;
    int32_t *order = sorted_order((const int32_t *)n->parent_rows.at, count);
    int status = !order || reorder(&n->parent_rows, 4, order, count) || reorder(&n->ordinals, 4, order, count) ||
                 reorder(&n->within, 8, order, count) || reorder(&n->through, 8, order, count) ||
                 reorder(&n->depths, 8, order, count) || reorder(&n->ways, 4, order, count) ||
                 reorder(&n->keys.refs, 8, order, count);
    for (size_t i = 0; !status && i < count; i++) places[order[i]] = (int32_t)i;
    free(order);
    if (!status) return places;
    free(places);
    return NULL;
}

static void refer_to(Buffer *rows, const int32_t *places) {
    for (size_t i = 0; i < rows->used / 8; i++)
        if (AT(*rows, int64_t, i) >= 0) AT(*rows, int64_t, i) = places[AT(*rows, int64_t, i)];
}

static int order_rows(Emitter *e) {
    int32_t **moved = calloc((size_t)e->count + 1, sizeof(int32_t *));
    int status = moved ? OK : NO_MEMORY;
    for (int32_t i = 0; !status && i < e->count; i++) {
        Node *n = &e->nodes[i];
        if (n->role == R_ELEMENT || n->role == R_ENTRY) {
            const int32_t *above = moved[e->nodes[n->parent].level];
            if (above || contains_itself(e, n)) {
                moved[i] = above ? order_level(n, above) : malloc((size_t)n->row_count * sizeof(int32_t) + 1);
                if (!moved[i]) status = NO_MEMORY;
                for (int32_t row = 0; !status && !above && row < n->row_count; row++) moved[i][row] = row;
            }
        }
        const int32_t *places = moved ? moved[n->level] : NULL;
        if (!status && places)
            status = sort_occurrences(n, places) || sort_kept_texts(&n->raw_rows, &n->raws, places) ||
                     sort_kept_texts(&n->order_rows, &n->orders, places);
    }
    for (int32_t i = 0; !status && i < e->count; i++) {
        Node *n = &e->nodes[i];
        if (moved[i]) refer_to(&n->within, moved[i]);
        if (n->through_level >= 0 && moved[n->through_level]) refer_to(&n->through, moved[n->through_level]);
    }
    for (int32_t i = 0; moved && i < e->count; i++) free(moved[i]);
    free(moved);
    return status ? NO_MEMORY : OK;
}
