/* Emission: a tape becomes the lanes of a fragment, in the form that a structure asks for; see emission.py.
 *
 * Each value finds its node by the node of the value around it and its name. Rows are numbered as they come, so a row
 * stands before those inside of it, and these before its next sibling. What the form does not know gets a node.
 */

enum { F_DICTIONARY = 1, F_LIFTED = 2, F_LIFTS_SCALARS = 4, F_RECURSIVE = 8 };
enum { RULE_NONE, RULE_MEMBER, RULE_EMPTY };

/* Texts that stand elsewhere: where each begins, in the lower 32 bits, and how long it is. */
typedef struct { Buffer refs; size_t size; } Texts;

static inline int add_ref(Texts *t, uint64_t ref) {
    t->size += ref >> 32;
    return put_i64(&t->refs, (int64_t)ref);
}

static inline size_t ref_size(const Texts *t, size_t index) { return (size_t)(AT(t->refs, uint64_t, index) >> 32); }
static inline size_t ref_start(const Texts *t, size_t index) { return (size_t)(AT(t->refs, uint64_t, index) & UINT32_MAX); }

typedef struct {
    int32_t parent, level, fold, name, element, entry, rest;
    int32_t row_count;   /* of a level node */
    int32_t position;    /* the position of all occurrences, while same_position */
    int32_t passed_names;
    int32_t last_row;    /* of the last occurrence */
    int32_t through_level; /* the level through which a structure contains itself; -1 */
    uint8_t role, flags, rule, in_every_row, same_position, is_touched, is_unordered, keeps_lanes;
    int64_t passed;      /* values passed over here */
    Buffer parent_rows, ordinals, rows, kinds, positions, booleans, integers, within, through, depths, ways, raw_rows,
        order_rows;
    Texts numbers, texts, keys, raws, orders;
} Node;

typedef struct {
    Node *nodes;
    int32_t count, room, text_step;
    int is_recursive;
    Table members;
    Names names;
} Emitter;

static int32_t new_node(Emitter *e, int32_t parent, int role, int32_t name) {
    if (e->count == e->room) {
        if (e->room > INT32_MAX / 2) return -1;
        int32_t room = e->room ? e->room * 2 : 64;
        Node *nodes = realloc(e->nodes, (size_t)room * sizeof(Node));
        if (!nodes) return -1;
        e->nodes = nodes;
        e->room = room;
    }
    int32_t index = e->count++;
    Node *n = &e->nodes[index];
    memset(n, 0, sizeof *n);
    n->parent = parent;
    n->role = (uint8_t)role;
    n->name = name;
    n->level = role == R_MEMBER ? e->nodes[parent].level : index;
    n->fold = n->element = n->entry = n->rest = n->through_level = -1;
    n->in_every_row = n->same_position = 1;
    return index;
}

static int32_t member_node(Emitter *e, int32_t parent, int32_t name) {
    uint64_t key = key_of(parent, name);
    Slot *slot = slot_of(&e->members, key);
    if (!slot) return -1;
    if (slot->key) return slot->value;
    int32_t made = new_node(e, parent, R_MEMBER, name);
    if (made >= 0) fill_slot(&e->members, slot, key, made);
    return made;
}

#define DEFINE_LEVEL(function, slot, role)                          \
    static int32_t function(Emitter *e, int32_t parent) {           \
        if (e->nodes[parent].slot < 0) {                            \
            int32_t made = new_node(e, parent, role, NO_NAME);      \
            if (made < 0) return -1;                                \
            e->nodes[parent].slot = made;                           \
        }                                                           \
        return e->nodes[parent].slot;                               \
    }
DEFINE_LEVEL(element_node, element, R_ELEMENT)
DEFINE_LEVEL(entry_node, entry, R_ENTRY)

static inline int32_t body_of(const Emitter *e, int32_t node) {
    return e->nodes[node].fold >= 0 ? e->nodes[node].fold : node;
}

/* Says whether the rows of a level are those of a structure that contains itself: entries of a dictionary, else elements. */
static inline int contains_itself(const Emitter *e, const Node *n) {
    if (n->parent < 0 || !(e->nodes[n->parent].flags & F_RECURSIVE)) return 0;
    return n->role == (e->nodes[n->parent].flags & F_DICTIONARY ? R_ENTRY : R_ELEMENT);
}

static int list_rows(Node *n) { /* from "in every row so far" to an explicit list */
    int32_t count = (int32_t)n->kinds.used;
    for (int32_t i = 0; i < count; i++) if (put_i32(&n->rows, i)) return NO_MEMORY;
    n->in_every_row = 0;
    return OK;
}

static inline int occur(Node *n, int32_t row, int kind, int32_t position) {
    n->is_touched = 1;
    if (n->in_every_row && (size_t)row != n->kinds.used && list_rows(n)) return NO_MEMORY;
    if (!n->in_every_row && put_i32(&n->rows, row)) return NO_MEMORY;
    n->is_unordered |= n->kinds.used && row < n->last_row;
    n->last_row = row;
    if (n->same_position && position != n->position) {
        if (n->kinds.used == 0) n->position = position;
        else {
            for (size_t i = 0; i < n->kinds.used; i++)
                if (put_i32(&n->positions, n->position)) return NO_MEMORY;
            n->same_position = 0;
        }
    }
    if (!n->same_position && put_i32(&n->positions, position)) return NO_MEMORY;
    return put_u8(&n->kinds, (uint8_t)kind);
}

/* Opens a row of a level for what stands at a row of `owner`; returns its number, or -1 without memory. */
static int32_t new_row(Emitter *e, int32_t level, int32_t owner, int32_t row, int32_t ordinal) {
    Node *n = &e->nodes[level];
    int32_t body = n->parent;
    n->is_touched = 1;
    if (contains_itself(e, n)) {
        int64_t within = -1, through = -1, depth = 1, way = -1;
        if (owner != body) {
            int32_t at = e->nodes[owner].level;
            if (at != level) {
                through = row;
                n->through_level = at;
            }
            while (at != level && e->nodes[at].parent >= 0) {
                row = AT(e->nodes[at].parent_rows, int32_t, row);
                at = e->nodes[e->nodes[at].parent].level;
            }
            if (at == level) {
                within = row;
                way = owner;
                depth = AT(n->depths, int64_t, row) + 1;
                row = AT(n->parent_rows, int32_t, row);
            }
        }
        if (put_i64(&n->within, within) || put_i64(&n->through, through) || put_i64(&n->depths, depth) ||
            put_i32(&n->ways, (int32_t)way)) return -1;
    }
    if (n->row_count == INT32_MAX || put_i32(&n->parent_rows, row) || put_i32(&n->ordinals, ordinal)) return -1;
    return n->row_count++;
}

/* Where a value stands: the node and row it came to first, and those it was moved to as an element. */
typedef struct { int32_t node, row, moved_node, moved_row; } Placed;

/* Puts a value at a row of a node; an object or array is then open there. */
static int place(Emitter *e, const TapeView *t, int32_t i, int32_t node, int32_t row, int32_t position, Placed *placed) {
    int kind = ((const uint8_t *)t->kinds.buf)[i];
    int64_t value = ((const int64_t *)t->values.buf)[i];
    *placed = (Placed){node, row, -1, -1};
    for (;;) {
        Node *n = &e->nodes[node];
        int32_t body = body_of(e, node);
        uint8_t flags = e->nodes[body].flags;
        if (flags & F_LIFTED && (kind == K_OBJECT || (flags & F_LIFTS_SCALARS && kind != K_ARRAY))) {
            if (occur(n, row, K_ARRAY, position)) return NO_MEMORY;
            int32_t element = element_node(e, body);
            if (element < 0) return NO_MEMORY;
            row = new_row(e, element, node, row, flags & F_LIFTS_SCALARS ? 1 : 0);
            if (row < 0) return NO_MEMORY;
            node = element;
            position = 0;
            placed->moved_node = node;
            placed->moved_row = row;
            continue;
        }
        int is_scalar = kind >= K_BOOLEAN && kind <= K_TEXT;
        if (is_scalar && n->rule) {
            if (occur(n, row, K_OBJECT, position)) return NO_MEMORY;
            if (n->rule == RULE_EMPTY) return OK;
            if (e->text_step < 0 && (e->text_step = intern(&e->names, "\x1ftext()", 7)) < 0) return NO_MEMORY;
            node = member_node(e, node, e->text_step);
            if (node < 0) return NO_MEMORY;
            position = 0;
            continue;
        }
        if (occur(n, row, kind, position)) return NO_MEMORY;
        switch (kind) {
            case K_BOOLEAN: return put_u8(&n->booleans, value != 0);
            case K_INTEGER: return put_i64(&n->integers, value);
            case K_LONG_INTEGER: case K_FRACTION: return add_ref(&n->numbers, (uint64_t)value);
            case K_TEXT: return add_ref(&n->texts, (uint64_t)value);
            case K_ARRAY: {
                int32_t element = element_node(e, body);
                if (element < 0) return NO_MEMORY;
                e->nodes[element].is_touched = 1;
            }
        }
        if (placed->moved_node < 0) { placed->node = node; placed->row = row; }
        return OK;
    }
}

typedef struct { int32_t *nodes, *rows, *positions, *numbers; } Places;

static void free_places(Places *s) {
    free(s->nodes);
    free(s->rows);
    free(s->positions);
    free(s->numbers);
    *s = (Places){0};
}

/* Returns the node of a member of which nothing is wanted; beyond a limit they are counted together. */
static int32_t passed_node(Emitter *e, int32_t body, int32_t name) {
    uint64_t key = key_of(body, name);
    Slot *slot = slot_of(&e->members, key);
    if (!slot) return -1;
    if (slot->key) return slot->value;
    if (e->nodes[body].passed_names < MEMBER_LIMIT) {
        e->nodes[body].passed_names++;
        return member_node(e, body, name);
    }
    if (e->nodes[body].rest < 0) {
        int32_t made = new_node(e, body, R_MEMBER, NO_NAME);
        if (made < 0) return -1;
        e->nodes[body].rest = made;
    }
    return e->nodes[body].rest;
}

static int put_raw(Emitter *e, const Placed *placed, uint64_t ref) {
    const int32_t nodes[] = {placed->node, placed->moved_node}, rows[] = {placed->row, placed->moved_row};
    for (int i = 0; i < 2; i++) {
        if (nodes[i] < 0) continue;
        Node *n = &e->nodes[nodes[i]];
        if (put_i32(&n->raw_rows, rows[i]) || add_ref(&n->raws, ref)) return NO_MEMORY;
    }
    return OK;
}

static int emit_tape(Emitter *e, const TapeView *t, Places *s) {
    const uint8_t *kinds = t->kinds.buf;
    const int32_t *names = t->names.buf, *parents = t->parents.buf;
    const uint64_t *refs = t->values.buf;
    Placed last = {-1, -1, -1, -1};
    for (int32_t i = 0; i < t->count; i++) {
        int kind = kinds[i];
        int32_t parent = parents[i], node = 0, row, position = 0;
        size_t size;
        const char *text;
        s->nodes[i] = -1;
        if (kind == M_RAW) { /* the text of the value just before */
            if (parent == i - 1 && put_raw(e, &last, refs[i])) return NO_MEMORY;
            continue;
        }
        if (parent >= 0 && s->nodes[parent] < 0) continue;
        int32_t owner = parent < 0 ? -1 : s->nodes[parent];
        row = parent < 0 ? -1 : s->rows[parent];
        if (kind == M_ORDER) {
            Node *n = &e->nodes[owner];
            if (put_i32(&n->order_rows, row) || add_ref(&n->orders, refs[i])) return NO_MEMORY;
            continue;
        }
        if (parent < 0) row = e->nodes[0].row_count++;
        else {
            int32_t body = body_of(e, owner);
            if (names[i] < 0) {
                node = element_node(e, body);
                if (node < 0) return NO_MEMORY;
                row = new_row(e, node, owner, row, ++s->positions[parent]);
                if (row < 0) return NO_MEMORY;
            } else if (e->nodes[body].flags & F_DICTIONARY) {
                position = s->positions[parent]++;
                node = entry_node(e, body);
                if (kind == M_PASSED && node >= 0) {
                    e->nodes[node].passed++;
                    continue;
                }
                row = node < 0 ? -1 : new_row(e, node, owner, row, position + 1);
                if (row < 0) return NO_MEMORY;
                text = step_at(t, names[i], &size);
                text = kept_name(text, &size);
                uint64_t start = (uint64_t)(text - (const char *)t->step_data.buf);
                if (start > UINT32_MAX || add_ref(&e->nodes[node].keys, start | (uint64_t)size << 32)) return NO_MEMORY;
                position = 0;
            } else {
                position = s->positions[parent]++;
                if (s->numbers[names[i]] < 0) {
                    text = step_at(t, names[i], &size);
                    s->numbers[names[i]] = intern(&e->names, text, size);
                    if (s->numbers[names[i]] < 0) return NO_MEMORY;
                }
                node = kind == M_PASSED ? passed_node(e, body, s->numbers[names[i]])
                                        : member_node(e, body, s->numbers[names[i]]);
                if (node < 0) return NO_MEMORY;
            }
        }
        if (kind == M_PASSED) {
            e->nodes[node].passed++;
            continue;
        }
        if (kind == M_HOLE) {
            e->nodes[node].is_touched = 1;
            last = (Placed){node, row, -1, -1};
            continue;
        }
        if (place(e, t, i, node, row, position, &last)) return NO_MEMORY;
        s->nodes[i] = last.moved_node >= 0 ? last.moved_node : last.node;
        s->rows[i] = last.moved_node >= 0 ? last.moved_row : last.row;
    }
    return OK;
}

/* ---- lanes ------------------------------------------------------------------------------------------ */

static int finish_lists(Emitter *e) { /* explicit rows and positions, so that all nodes read alike */
    for (int32_t i = 0; i < e->count; i++) {
        Node *n = &e->nodes[i];
        int32_t level_rows = e->nodes[n->level].row_count;
        if (n->in_every_row && n->kinds.used != (size_t)level_rows && list_rows(n)) return NO_MEMORY;
        if (!n->in_every_row && !n->is_unordered && n->rows.used == (size_t)level_rows * 4) { n->rows.used = 0; n->in_every_row = 1; }
        if (n->same_position && n->kinds.used && n->role == R_MEMBER && put_i32(&n->positions, n->position))
            return NO_MEMORY;
        if (n->role != R_MEMBER) n->positions.used = 0;
        n->is_touched |= n->kinds.used > 0 || n->row_count > 0 || i == 0;
    }
    for (int32_t i = e->count - 1; i > 0; i--)
        if (e->nodes[i].is_touched) e->nodes[e->nodes[i].parent].is_touched = 1;
    return OK;
}

static PyObject *joined(const Emitter *e, size_t offset) {
    size_t total = 0;
    for (int32_t i = 0; i < e->count; i++) total += ((Buffer *)((char *)&e->nodes[i] + offset))->used;
    PyObject *bytes = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)total);
    if (!bytes) return NULL;
    char *at = PyBytes_AS_STRING(bytes);
    for (int32_t i = 0; i < e->count; i++) {
        Buffer *b = (Buffer *)((char *)&e->nodes[i] + offset);
        if (b->used) memcpy(at, b->at, b->used);
        at += b->used;
    }
    return bytes;
}

static PyObject *counts_of(const Emitter *e, size_t offset, size_t width) {
    PyObject *bytes = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)((size_t)e->count * 8));
    if (!bytes) return NULL;
    for (int32_t i = 0; i < e->count; i++) {
        int64_t count = (int64_t)(((Buffer *)((char *)&e->nodes[i] + offset))->used / width);
        memcpy(PyBytes_AS_STRING(bytes) + (size_t)i * 8, &count, 8);
    }
    return bytes;
}

static PyObject *lengths_of(const Emitter *e, size_t offset) {
    size_t total = 0;
    for (int32_t i = 0; i < e->count; i++) total += ((const Texts *)((const char *)&e->nodes[i] + offset))->refs.used;
    PyObject *bytes = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)total);
    if (!bytes) return NULL;
    char *at = PyBytes_AS_STRING(bytes);
    for (int32_t i = 0; i < e->count; i++) {
        const Texts *texts = (const Texts *)((const char *)&e->nodes[i] + offset);
        for (size_t t = 0; t < texts->refs.used / 8; t++, at += 8) {
            int64_t size = (int64_t)ref_size(texts, t);
            memcpy(at, &size, 8);
        }
    }
    return bytes;
}

static PyObject *texts_of(const Emitter *e, size_t offset, const char *base) {
    size_t total = 0;
    for (int32_t i = 0; i < e->count; i++) total += ((const Texts *)((const char *)&e->nodes[i] + offset))->size;
    PyObject *bytes = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)total);
    if (!bytes) return NULL;
    char *at = PyBytes_AS_STRING(bytes);
    for (int32_t i = 0; i < e->count; i++) {
        const Texts *texts = (const Texts *)((const char *)&e->nodes[i] + offset);
        for (size_t t = 0; t < texts->refs.used / 8; t++) {
            size_t size = ref_size(texts, t);
            if (size) memcpy(at, base + ref_start(texts, t), size);
            at += size;
        }
    }
    return bytes;
}

static PyObject *heads(const Emitter *e) {
    PyObject *list = PyList_New(e->count);
    for (int32_t i = 0; list && i < e->count; i++) {
        const Node *n = &e->nodes[i];
        PyObject *name = n->name >= 0 ? PyUnicode_DecodeUTF8(name_text(&e->names, n->name), e->names.at[n->name].size, NULL)
                                      : Py_NewRef(Py_None);
        PyObject *head = name ? Py_BuildValue("(iiNiiLi)", n->parent, (int)n->role, name, e->nodes[n->level].row_count,
                                              (int)n->in_every_row, (long long)n->passed, (int)n->is_touched)
                              : NULL;
        if (!head) { Py_CLEAR(list); break; }
        PyList_SET_ITEM(list, i, head);
    }
    return list;
}

static PyObject *lanes_of(const Emitter *e, const TapeView *t) {
    PyObject *dict = PyDict_New();
    if (!dict) goto fail;
    static const struct { const char *name; size_t offset, width; } lanes[] = {
        {"parent_rows", offsetof(Node, parent_rows), 4}, {"ordinals", offsetof(Node, ordinals), 4},
        {"rows", offsetof(Node, rows), 4}, {"kinds", offsetof(Node, kinds), 1},
        {"positions", offsetof(Node, positions), 4}, {"booleans", offsetof(Node, booleans), 1},
        {"integers", offsetof(Node, integers), 8}, {"within", offsetof(Node, within), 8},
        {"through", offsetof(Node, through), 8}, {"depths", offsetof(Node, depths), 8},
        {"ways", offsetof(Node, ways), 4}, {"raw_rows", offsetof(Node, raw_rows), 4},
        {"order_rows", offsetof(Node, order_rows), 4}};
    static const struct { const char *name; size_t offset; int of_steps; } texts[] = {
        {"numbers", offsetof(Node, numbers), 0}, {"texts", offsetof(Node, texts), 0}, {"keys", offsetof(Node, keys), 1},
        {"raws", offsetof(Node, raws), 0}, {"orders", offsetof(Node, orders), 0}};
    char key[32];
    for (size_t i = 0; i < sizeof(lanes) / sizeof(*lanes); i++) {
        snprintf(key, sizeof key, "%s_counts", lanes[i].name);
        if (set_item(dict, lanes[i].name, joined(e, lanes[i].offset)) ||
            set_item(dict, key, counts_of(e, lanes[i].offset, lanes[i].width))) goto fail;
    }
    for (size_t i = 0; i < sizeof(texts) / sizeof(*texts); i++) {
        snprintf(key, sizeof key, "%s_counts", texts[i].name);
        if (set_item(dict, texts[i].name, lengths_of(e, texts[i].offset)) ||
            set_item(dict, key, counts_of(e, texts[i].offset + offsetof(Texts, refs), 8))) goto fail;
        snprintf(key, sizeof key, "%s_data", texts[i].name);
        if (set_item(dict, key, texts_of(e, texts[i].offset, texts[i].of_steps ? t->step_data.buf : t->data.buf))) goto fail;
    }
    if (set_item(dict, "heads", heads(e))) goto fail;
    return dict;
fail:
    Py_XDECREF(dict);
    return PyErr_Occurred() ? NULL : PyErr_NoMemory();
}

static void free_emitter(Emitter *e) {
    for (int32_t i = 0; i < e->count; i++) {
        Node *n = &e->nodes[i];
        Buffer *buffers[] = {&n->parent_rows, &n->ordinals, &n->rows, &n->kinds, &n->positions, &n->booleans, &n->integers,
                             &n->within, &n->through, &n->depths, &n->ways, &n->raw_rows, &n->order_rows,
                             &n->numbers.refs, &n->texts.refs, &n->keys.refs, &n->raws.refs, &n->orders.refs};
        for (size_t b = 0; b < sizeof(buffers) / sizeof(*buffers); b++) free(buffers[b]->at);
    }
    free(e->nodes);
    free(e->members.at);
    free_names(&e->names);
}

/* Makes the nodes of a form: a list of (parent, role, name, fold, flags, rule), each after its parent. */
static int take_form(Emitter *e, PyObject *form) {
    Py_ssize_t count = PyList_GET_SIZE(form);
    for (Py_ssize_t i = 0; i < count; i++) {
        int parent, role, fold, flags, rule;
        PyObject *name;
        if (!PyArg_ParseTuple(PyList_GET_ITEM(form, i), "iiOiii", &parent, &role, &name, &fold, &flags, &rule)) return -1;
        if (parent >= i || (parent < 0) != (i == 0) || fold >= count || fold < -1 || role < 0 || role > R_ENTRY) {
            PyErr_SetString(PyExc_ValueError, "this is no form");
            return -1;
        }
        int32_t number = NO_NAME, made;
        if (role == R_MEMBER) {
            Py_ssize_t size;
            const char *text = PyUnicode_AsUTF8AndSize(name, &size);
            if (!text) return -1;
            number = intern(&e->names, text, (size_t)size);
            made = number < 0 ? -1 : member_node(e, parent, number);
        } else made = role == R_RECORD    ? new_node(e, -1, role, NO_NAME)
                      : role == R_ELEMENT ? element_node(e, parent)
                                          : entry_node(e, parent);
        if (made < 0) { PyErr_NoMemory(); return -1; }
        if (made != i) { PyErr_SetString(PyExc_ValueError, "a place stands twice in this form"); return -1; }
        e->nodes[made].fold = fold;
        e->nodes[made].flags = (uint8_t)flags;
        e->is_recursive |= flags & F_RECURSIVE;
        e->nodes[made].rule = (uint8_t)rule;
    }
    return 0;
}

#include "_row_order.h"
#include "_columns.h"

/* emit(form, tape, wanted): the lanes of a fragment, and with them the columns that are wanted of the form's places. */
static PyObject *py_emit(PyObject *self, PyObject *args) {
    PyObject *form, *tuple, *wanted, *made = NULL;
    (void)self;
    if (!PyArg_ParseTuple(args, "O!O!O!", &PyList_Type, &form, &PyTuple_Type, &tuple, &PyList_Type, &wanted)) return NULL;
    TapeView t;
    if (view_tape(tuple, &t)) return NULL;
    Emitter e = {0};
    e.text_step = -1;
    Places s = {0};
    Column *columns = NULL;
    Py_ssize_t count = 0;
    if (take_form(&e, form) || !(columns = take_columns(&e, wanted, &count))) goto done;
    size_t size = (size_t)t.count * 4 + 4;
    s = (Places){malloc(size), malloc(size), calloc(1, size), malloc((size_t)t.step_count * 4 + 4)};
    int status = s.nodes && s.rows && s.positions && s.numbers ? OK : NO_MEMORY;
    Py_BEGIN_ALLOW_THREADS
    if (!status) {
        memset(s.numbers, 0xff, (size_t)t.step_count * 4);
        status = emit_tape(&e, &t, &s);
    }
    free_places(&s);
    status = status || (e.is_recursive && order_rows(&e)) || finish_lists(&e);
    for (Py_ssize_t i = 0; !status && i < count; i++) size_column(&e, &columns[i]);
    Py_END_ALLOW_THREADS
    if (status || room_for_columns(columns, count)) {
        PyErr_NoMemory();
        goto done;
    }
    Py_BEGIN_ALLOW_THREADS
    for (Py_ssize_t i = 0; i < count; i++) fill_column(&e, &t, &columns[i]);
    let_go_of_lanes(&e, columns, count);
    Py_END_ALLOW_THREADS
    made = lanes_of(&e, &t);
    if (made && set_item(made, "columns", columns_made(columns, count))) Py_CLEAR(made);
done:
    free_places(&s);
    free_columns(columns, count);
    free_emitter(&e);
    release_tape(&t);
    return made;
}
