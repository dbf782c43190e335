/* The compiled JSON kernel: bytes of whole records -> the lanes of a fragment.
 *
 * It does what json_kernel.py does, and the same tests run on both. When a record is bad, or has a name
 * twice in one object, it gives up the chunk; the careful way of fast_kernel.py then finds what is wrong. No
 * Python object is made while parsing, so the interpreter lock is free meanwhile.
 */
#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

enum { K_NULL, K_BOOLEAN, K_INTEGER, K_LONG_INTEGER, K_FRACTION, K_TEXT, K_OBJECT, K_ARRAY };
enum { R_RECORD, R_MEMBER, R_ELEMENT, R_ENTRY };
enum { W_SCALARS = 1, W_RAW = 2, W_INSIDE = 4, W_ENTRY = 8, W_ALL = W_SCALARS | W_INSIDE };
enum { S_LINE, S_COMMA, S_NOTHING };
enum { OK = 0, BAD = 1, NO_MEMORY = 2, FAILED = 3, AGAIN = 4 };

/* ---- growing buffers ---------------------------------------------------------------------------- */

typedef struct { char *at; size_t used, room; } Buffer;

static int grow(Buffer *b, size_t more) {
    size_t need = b->used + more;
    if (need <= b->room) return OK;
    size_t room = b->room ? b->room * 2 : 64;
    while (room < need) room *= 2;
    char *at = realloc(b->at, room);
    if (!at) return NO_MEMORY;
    b->at = at;
    b->room = room;
    return OK;
}

static int put_bytes(Buffer *b, const void *bytes, size_t size) {
    if (grow(b, size)) return NO_MEMORY;
    if (size) memcpy(b->at + b->used, bytes, size);
    b->used += size;
    return OK;
}

#define DEFINE_PUT(name, type)                                   \
    static inline int name(Buffer *b, type value) {              \
        if (b->used + sizeof(type) > b->room && grow(b, sizeof(type))) return NO_MEMORY; \
        memcpy(b->at + b->used, &value, sizeof(type));           \
        b->used += sizeof(type);                                 \
        return OK;                                               \
    }
DEFINE_PUT(put_u8, uint8_t)
DEFINE_PUT(put_i32, int32_t)
DEFINE_PUT(put_i64, int64_t)

typedef struct { Buffer lengths, data; } Texts;

static int put_text(Texts *t, const void *bytes, size_t size) {
    return put_i64(&t->lengths, (int64_t)size) || put_bytes(&t->data, bytes, size) ? NO_MEMORY : OK;
}

/* ---- nodes -------------------------------------------------------------------------------------- */

typedef struct {
    int32_t parent, level, element, entry;
    int32_t row_count;   /* of a level node */
    int32_t last_row;    /* the row of the last occurrence; -1 before the first */
    int32_t position;    /* the position of all occurrences, while same_position */
    uint8_t role, in_every_row, same_position;
    uint8_t is_plain;    /* whether the name stands in JSON as it is, without escapes */
    char *name;
    int32_t name_size;
    int32_t follower;    /* the member that came after this one last time; -1 unknown */
    int32_t first_guess; /* the member that came first last time; -1 unknown */
    int32_t *table;      /* hash table of members: node index or -1 */
    int32_t table_room, member_count;
    uint64_t hash;       /* of the name */
    int32_t place;       /* in the selection; see select_node */
    uint8_t wanted;      /* W_ flags */
    int32_t rest;        /* the node that counts unwanted members beyond the limit; -1 */
    int64_t passed;      /* values passed over here */
    Buffer raw_rows;     /* the rows of `raws` */
    Texts raws;          /* all that stands here, as JSON */
    Buffer parent_rows, ordinals, rows, kinds, positions, booleans, integers;
    Texts numbers, texts, keys;
} Node;

typedef struct { int32_t node, row, count, element, previous; uint8_t is_array; } Frame;

typedef struct {
    const uint8_t *text, *end;
    Node *nodes;
    int32_t node_count, node_room;
    Frame *frames;
    int32_t depth, frame_room, depth_limit, member_limit;
    Buffer scratch;      /* an unescaped text */
    Buffer spelled;      /* the same with half surrogates spelled out */
    uint8_t had_escapes, had_halves; /* of the text read last */
    uint8_t tells_halves; /* whether values that look like half surrogates are told from these */
    Buffer offsets;      /* where each record begins */
    Buffer brackets;     /* the open brackets of a value that is passed over or copied */
    PyObject *selection; /* says what is wanted; NULL for everything */
} Parser;

/* Asks the selection what is wanted at a new node; once for each node of a chunk. */
static int select_node(Parser *p, int32_t index) {
    Node *n = &p->nodes[index];
    n->wanted = W_ALL;
    if (!p->selection) return OK;
    int32_t place = n->parent < 0 ? 0 : p->nodes[n->parent].place;
    if (place < 0) { n->place = -1; n->wanted = 0; return OK; }
    PyGILState_STATE state = PyGILState_Ensure();
    const char *name = n->name ? n->name : "";
    PyObject *made = PyObject_CallFunction(p->selection, "iiis#", (int)place, (int)(n->parent < 0), (int)n->role,
                                           name, (Py_ssize_t)n->name_size);
    int place_found = -1, wanted = 0;
    int status = made && PyArg_ParseTuple(made, "ii", &place_found, &wanted) ? OK : FAILED;
    Py_XDECREF(made);
    PyGILState_Release(state);
    n->place = place_found;
    n->wanted = (uint8_t)wanted;
    return status;
}

static int32_t new_node(Parser *p, int32_t parent, int role, const char *name, int32_t size) {
    if (p->node_count == p->node_room) {
        int32_t room = p->node_room ? p->node_room * 2 : 64;
        Node *nodes = realloc(p->nodes, (size_t)room * sizeof(Node));
        if (!nodes) return -1;
        p->nodes = nodes;
        p->node_room = room;
    }
    int32_t index = p->node_count;
    Node *n = &p->nodes[index];
    memset(n, 0, sizeof(Node));
    if (name) {
        n->name = malloc(size ? size : 1);
        if (!n->name) return -1;
        memcpy(n->name, name, size);
    }
    n->name_size = size;
    n->is_plain = name != NULL;
    for (int32_t i = 0; i < size; i++)
        if ((uint8_t)name[i] < 0x20 || name[i] == '"' || name[i] == '\\') n->is_plain = 0;
    n->parent = parent;
    n->role = (uint8_t)role;
    n->level = role == R_MEMBER ? p->nodes[parent].level : index;
    n->element = n->entry = n->follower = n->first_guess = n->last_row = n->rest = -1;
    n->in_every_row = n->same_position = 1;
    p->node_count++;
    return select_node(p, index) ? -1 : index;
}

static void free_node(Node *n) {
    Buffer *buffers[] = {&n->parent_rows, &n->ordinals, &n->rows, &n->kinds, &n->positions, &n->booleans,
                         &n->integers, &n->numbers.lengths, &n->numbers.data, &n->texts.lengths,
                         &n->texts.data, &n->keys.lengths, &n->keys.data, &n->raw_rows, &n->raws.lengths,
                         &n->raws.data};
    for (size_t i = 0; i < sizeof(buffers) / sizeof(*buffers); i++) free(buffers[i]->at);
    free(n->name);
    free(n->table);
}

static uint64_t hash_of(const char *name, size_t size) {
    uint64_t h = 1469598103934665603ULL;
    for (size_t i = 0; i < size; i++) h = (h ^ (uint8_t)name[i]) * 1099511628211ULL;
    return h ^ (h >> 29);
}

static int enlarge_table(Parser *p, Node *n) {
    int32_t room = n->table_room ? n->table_room * 2 : 8;
    int32_t *table = malloc((size_t)room * sizeof(int32_t));
    if (!table) return NO_MEMORY;
    memset(table, 0xff, (size_t)room * sizeof(int32_t));
    for (int32_t i = 0; i < n->table_room; i++) {
        if (n->table[i] < 0) continue;
        int32_t at = (int32_t)(p->nodes[n->table[i]].hash & (uint64_t)(room - 1));
        while (table[at] >= 0) at = (at + 1) & (room - 1);
        table[at] = n->table[i];
    }
    free(n->table);
    n->table = table;
    n->table_room = room;
    return OK;
}

static inline int is_named(const Node *n, const char *name, int32_t size) {
    return n->name_size == size && memcmp(n->name, name, size) == 0;
}

/* Beyond the limit only an object that itself has most of the names may add to them: it is a wide record,
 * not a dictionary. Beyond WIDEST times the limit none may.
 * Where there are very many nodes already, names are data somewhere: then objects are full much earlier. */
enum { WIDEST = 16, MANY_NODES = 8192, FEWER = 8 };

static int is_full(const Parser *p, const Node *n, int32_t position) {
    if (p->node_count >= MANY_NODES && n->member_count >= p->member_limit / FEWER) return 1;
    if (n->member_count < p->member_limit) return 0;
    return n->member_count >= WIDEST * p->member_limit || 2 * position < n->member_count;
}

/* Puts a new member into the hash table of its parent; returns it, or -1 without memory. */
static int32_t link_member(Parser *p, int32_t parent, int32_t index, uint64_t hash) {
    Node *n = &p->nodes[parent];
    if (2 * (n->member_count + 1) > n->table_room && enlarge_table(p, n)) return -1;
    p->nodes[index].hash = hash;
    int32_t at = (int32_t)(hash & (uint64_t)(n->table_room - 1));
    while (n->table[at] >= 0) at = (at + 1) & (n->table_room - 1);
    n->table[at] = index;
    n->member_count++;
    return index;
}

/* Returns the member of that name, made if need be; -1 without memory, -2 if there are too many members. */
static int32_t member(Parser *p, int32_t parent, int32_t guess, int32_t position, const char *name, int32_t size) {
    if (guess >= 0 && is_named(&p->nodes[guess], name, size)) return guess;
    Node *n = &p->nodes[parent];
    uint64_t hash = hash_of(name, size);
    if (n->table_room) {
        int32_t at = (int32_t)(hash & (uint64_t)(n->table_room - 1));
        for (; n->table[at] >= 0; at = (at + 1) & (n->table_room - 1)) {
            Node *m = &p->nodes[n->table[at]];
            if (m->hash == hash && is_named(m, name, size)) return n->table[at];
        }
    }
    if (is_full(p, n, position)) {
        /* Where only known names are wanted, those beyond the limit are counted together, unless one of them
         * is wanted: then it gets its node. */
        if (!p->selection) return -2;
        int32_t index = new_node(p, parent, R_MEMBER, name, size);
        if (index < 0) return -1;
        if (p->nodes[index].wanted && !(p->nodes[index].wanted & W_ENTRY)) {
            return link_member(p, parent, index, hash);
        }
        int is_entry = p->nodes[index].wanted != 0;
        free_node(&p->nodes[index]);
        p->node_count--;
        if (is_entry) return -2;
        n = &p->nodes[parent];
        if (n->rest < 0) {
            int32_t made = new_node(p, parent, R_MEMBER, NULL, 0);
            if (made < 0) return -1;
            p->nodes[made].wanted = 0;
            p->nodes[made].place = -1;
            p->nodes[parent].rest = made;
        }
        return p->nodes[parent].rest;
    }
    int32_t index = new_node(p, parent, R_MEMBER, name, size);
    return index < 0 ? -1 : link_member(p, parent, index, hash);
}

static int list_rows(Node *n) { /* from "in every row so far" to an explicit list */
    int32_t count = (int32_t)n->kinds.used;
    for (int32_t i = 0; i < count; i++) if (put_i32(&n->rows, i)) return NO_MEMORY;
    n->in_every_row = 0;
    return OK;
}

static inline int occur(Node *n, int32_t row, int kind, int32_t position) {
    if (n->in_every_row && (size_t)row != n->kinds.used && list_rows(n)) return NO_MEMORY;
    if (!n->in_every_row && put_i32(&n->rows, row)) return NO_MEMORY;
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

/* ---- texts and numbers -------------------------------------------------------------------------- */

static inline const uint8_t *skip_space(const uint8_t *s, const uint8_t *end) {
    while (s < end && (*s == ' ' || *s == '\n' || *s == '\r' || *s == '\t')) s++;
    return s;
}

/* Length of the UTF-8 sequence at s (RFC 3629), or 0 if it is none. */
static int utf8_length(const uint8_t *s, const uint8_t *end) {
#define TAIL(i) ((s[i] & 0xC0) == 0x80)
    uint8_t c = *s;
    if (c < 0xC2) return 0;
    if (c < 0xE0) return end - s >= 2 && TAIL(1) ? 2 : 0;
    if (c < 0xF0) {
        if (end - s < 3 || !TAIL(1) || !TAIL(2)) return 0;
        if ((c == 0xE0 && s[1] < 0xA0) || (c == 0xED && s[1] > 0x9F)) return 0;
        return 3;
    }
    if (c > 0xF4 || end - s < 4 || !TAIL(1) || !TAIL(2) || !TAIL(3)) return 0;
    if ((c == 0xF0 && s[1] < 0x90) || (c == 0xF4 && s[1] > 0x8F)) return 0;
    return 4;
#undef TAIL
}

static int hex4(const uint8_t *s, const uint8_t *end, uint32_t *code) {
    if (end - s < 4) return BAD;
    *code = 0;
    for (int i = 0; i < 4; i++) {
        uint8_t c = s[i];
        int digit = c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10
                  : c >= 'A' && c <= 'F' ? c - 'A' + 10 : -1;
        if (digit < 0) return BAD;
        *code = *code * 16 + (uint32_t)digit;
    }
    return OK;
}

static int put_code(Buffer *b, uint32_t c) {
    uint8_t bytes[6];
    size_t size;
    if (c < 0x80) { bytes[0] = (uint8_t)c; size = 1; }
    else if (c < 0x800) { bytes[0] = 0xC0 | (c >> 6); bytes[1] = 0x80 | (c & 63); size = 2; }
    else if (c < 0xD800 || (c > 0xDFFF && c < 0x10000)) {
        bytes[0] = 0xE0 | (c >> 12); bytes[1] = 0x80 | ((c >> 6) & 63); bytes[2] = 0x80 | (c & 63); size = 3;
    } else if (c >= 0x10000) {
        bytes[0] = 0xF0 | (c >> 18); bytes[1] = 0x80 | ((c >> 12) & 63);
        bytes[2] = 0x80 | ((c >> 6) & 63); bytes[3] = 0x80 | (c & 63); size = 4;
    } else { /* half a surrogate, which UTF-8 cannot hold: as UTF-8 would, until it is spelled out */
        bytes[0] = 0xED; bytes[1] = 0x80 | ((c >> 6) & 63); bytes[2] = 0x80 | (c & 63); size = 3;
    }
    return put_bytes(b, bytes, size);
}

/* Reads the text whose opening quote is before s. On success *s is behind the closing quote, and
 * bytes/size give the text: in the input itself, or in the scratch buffer if it had escapes. */
static int read_text(Parser *p, const uint8_t **s, const char **bytes, size_t *size) {
    const uint8_t *at = *s, *end = p->end, *from = at;
    int escaped = 0;
    p->scratch.used = 0;
    p->had_halves = 0;
    for (;;) {
        while (at < end && *at != '"' && *at != '\\' && *at >= 0x20 && *at < 0x80) at++;
        if (at >= end) return BAD;
        if (*at >= 0x80) {
            int length = utf8_length(at, end);
            if (!length) return BAD;
            at += length;
            continue;
        }
        if (*at == '"') break;
        if (*at != '\\' || end - at < 2) return BAD;
        if (put_bytes(&p->scratch, from, (size_t)(at - from))) return NO_MEMORY;
        escaped = 1;
        uint32_t code;
        at += 2;
        switch (at[-1]) {
            case '"': case '\\': case '/': code = at[-1]; break;
            case 'b': code = '\b'; break;
            case 'f': code = '\f'; break;
            case 'n': code = '\n'; break;
            case 'r': code = '\r'; break;
            case 't': code = '\t'; break;
            case 'u': {
                if (hex4(at, end, &code)) return BAD;
                at += 4;
                uint32_t low;
                if (code >= 0xD800 && code < 0xDC00 && end - at >= 6 && at[0] == '\\' && at[1] == 'u' &&
                    !hex4(at + 2, end, &low) && low >= 0xDC00 && low < 0xE000) {
                    code = 0x10000 + ((code - 0xD800) << 10) + (low - 0xDC00);
                    at += 6;
                }
                break;
            }
            default: return BAD;
        }
        p->had_halves |= code >= 0xD800 && code <= 0xDFFF;
        if (put_code(&p->scratch, code)) return NO_MEMORY;
        from = at;
    }
    p->had_escapes = (uint8_t)escaped;
    if (escaped) {
        if (put_bytes(&p->scratch, from, (size_t)(at - from))) return NO_MEMORY;
        *bytes = p->scratch.at;
        *size = p->scratch.used;
    } else {
        *bytes = (const char *)from;
        *size = (size_t)(at - from);
    }
    *s = at + 1;
    return OK;
}

/* Says whether half a surrogate, written as UTF-8 would, stands at s. */
static inline int is_half(const uint8_t *s, const uint8_t *end) {
    return end - s >= 3 && s[0] == 0xED && s[1] >= 0xA0;
}

static uint32_t half_at(const uint8_t *s) { return 0xD000u | (uint32_t)(s[1] & 63) << 6 | (s[2] & 63); }

static inline int is_hex(uint8_t c) { return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'f'); }

/* Says whether the escape of half a surrogate, without its backslash, stands at s as text. */
static inline int looks_half(const uint8_t *s, const uint8_t *end) {
    return end - s >= 5 && s[0] == 'u' && s[1] == 'd' && (s[2] == '8' || s[2] == '9' || (s[2] >= 'a' && s[2] <= 'f')) &&
           is_hex(s[3]) && is_hex(s[4]);
}

/* Spells out the half surrogates of the text read last; where `tells` also doubles backslashes, so that text
 * which only looks like one is another (as `paths.step_of_name` does). */
static int spell_halves(Parser *p, const char **bytes, size_t *size, int tells) {
    if (!p->had_escapes || !(p->had_halves || tells)) return OK;
    const uint8_t *s = (const uint8_t *)*bytes, *end = s + *size, *from = s;
    Buffer *out = &p->spelled;
    out->used = 0;
    while (s < end) {
        const uint8_t *run = s;
        while (s < end && *s == '\\') s++;
        int half = is_half(s, end), like = tells && s > run && looks_half(s, end);
        if (half || like) {
            if (put_bytes(out, from, (size_t)(s - from))) return NO_MEMORY;
            if (tells && put_bytes(out, run, (size_t)(s - run))) return NO_MEMORY;
            from = s;
        }
        if (half) {
            char escape[8];
            int length = snprintf(escape, sizeof escape, "\\u%04x", (unsigned)half_at(s));
            if (put_bytes(out, escape, (size_t)length)) return NO_MEMORY;
            from = s += 3;
        } else if (s == run) s++;
    }
    if (put_bytes(out, from, (size_t)(s - from))) return NO_MEMORY;
    *bytes = out->at;
    *size = out->used;
    return OK;
}

/* Turns the name read last into the step that leads to its member: see `paths.step_of_name`. */
static int name_to_step(Parser *p, const char **name, size_t *size) {
    int status = spell_halves(p, name, size, 1);
    if (status || !p->had_escapes || !*size || **name != 0x1F) return status;
    p->scratch.used = 0;
    if (*name == p->scratch.at) { /* nothing was spelled out */
        size_t used = *size;
        p->spelled.used = 0;
        if (put_bytes(&p->spelled, *name, used)) return NO_MEMORY;
        *name = p->spelled.at;
    }
    if (put_u8(&p->scratch, 0x1F) || put_bytes(&p->scratch, *name, *size)) return NO_MEMORY;
    *name = p->scratch.at;
    *size = p->scratch.used;
    return OK;
}

/* Says whether a number or word that ends before s is glued to something. */
static inline int is_glued(const uint8_t *s, const uint8_t *end) {
    if (s >= end) return 0;
    uint8_t c = *s, letter = c | 32;
    return c == '.' || c == '_' || c == '+' || c == '-' || c >= 0x80 || (c >= '0' && c <= '9') ||
           (letter >= 'a' && letter <= 'z');
}

static inline int is_digit(const uint8_t *s, const uint8_t *end) { return s < end && *s >= '0' && *s <= '9'; }

static int read_number(Parser *p, const uint8_t **s, Node *n, int32_t row, int32_t position) {
    const uint8_t *at = *s, *end = p->end, *from = at;
    int fraction = 0;
    uint64_t value = 0;
    if (*at == '-') at++;
    const uint8_t *digits = at;
    if (!is_digit(at, end)) return BAD;
    if (*at == '0') at++;
    else while (is_digit(at, end)) value = value * 10 + (uint64_t)(*at++ - '0');
    ptrdiff_t whole = at - digits;
    if (at < end && *at == '.') {
        at++;
        if (!is_digit(at, end)) return BAD;
        while (is_digit(at, end)) at++;
        fraction = 1;
    }
    if (at < end && (*at == 'e' || *at == 'E')) {
        at++;
        if (at < end && (*at == '+' || *at == '-')) at++;
        if (!is_digit(at, end)) return BAD;
        while (is_digit(at, end)) at++;
        fraction = 1;
    }
    if (is_glued(at, end)) return BAD;
    *s = at;
    size_t size = (size_t)(at - from);
    if (fraction)
        return occur(n, row, K_FRACTION, position) || put_text(&n->numbers, from, size) ? NO_MEMORY : OK;
    int negative = *from == '-';
    /* 19 digits do not overflow 64 bits without sign */
    int fits = whole <= 19 && value <= (uint64_t)INT64_MAX + (uint64_t)negative && !(negative && value == 0);
    if (!fits)
        return occur(n, row, K_LONG_INTEGER, position) || put_text(&n->numbers, from, size) ? NO_MEMORY : OK;
    int64_t integer = negative ? (int64_t)(0 - value) : (int64_t)value;
    return occur(n, row, K_INTEGER, position) || put_i64(&n->integers, integer) ? NO_MEMORY : OK;
}

static int read_word(Parser *p, const uint8_t **s, Node *n, int32_t row, int32_t position) {
    static const struct { const char *word; size_t size; int kind; uint8_t value; } words[] = {
        {"true", 4, K_BOOLEAN, 1}, {"false", 5, K_BOOLEAN, 0}, {"null", 4, K_NULL, 0}};
    for (int i = 0; i < 3; i++) {
        if ((size_t)(p->end - *s) < words[i].size || memcmp(*s, words[i].word, words[i].size)) continue;
        const uint8_t *after = *s + words[i].size;
        if (is_glued(after, p->end)) return BAD;
        *s = after;
        if (occur(n, row, words[i].kind, position)) return NO_MEMORY;
        return words[i].kind == K_BOOLEAN ? put_u8(&n->booleans, words[i].value) : OK;
    }
    return BAD;
}

/* ---- records ------------------------------------------------------------------------------------ */

static int push(Parser *p, int32_t node, int32_t row, uint8_t is_array, int32_t element) {
    if (p->depth >= p->depth_limit) return BAD;
    if (p->depth == p->frame_room) {
        int32_t room = p->frame_room ? p->frame_room * 2 : 64;
        Frame *frames = realloc(p->frames, (size_t)room * sizeof(Frame));
        if (!frames) return NO_MEMORY;
        p->frames = frames;
        p->frame_room = room;
    }
    p->frames[p->depth++] = (Frame){node, row, 0, element, -1, is_array};
    return OK;
}

/* Says whether the name of a node, with its closing quote, stands at s. */
static inline int is_next(const Node *n, const uint8_t *s, const uint8_t *end) {
    return n->is_plain && end - s > n->name_size && s[n->name_size] == '"' && !memcmp(s, n->name, n->name_size);
}

/* Reads the name and colon of the next member of the innermost object; gives where its value goes. */
static int read_name(Parser *p, const uint8_t **s, int32_t *node, int32_t *row, int32_t *position) {
    Frame *f = &p->frames[p->depth - 1];
    const char *name;
    size_t size;
    *s = skip_space(*s, p->end);
    if (*s >= p->end || **s != '"') return BAD;
    (*s)++;
    int32_t guess = f->previous >= 0 ? p->nodes[f->previous].follower : p->nodes[f->node].first_guess;
    int32_t found = -1;
    if (guess >= 0 && is_next(&p->nodes[guess], *s, p->end)) { /* the usual order of members: no need to scan */
        found = guess;
        *s += p->nodes[guess].name_size + 1;
    } else {
        int status = read_text(p, s, &name, &size);
        if (!status) status = name_to_step(p, &name, &size);
        if (status) return status;
    }
    *s = skip_space(*s, p->end);
    if (*s >= p->end || **s != ':') return BAD;
    (*s)++;
    *position = f->count++;
    if (found < 0) found = member(p, f->node, guess, *position, name, (int32_t)size);
    if (found == -1) return NO_MEMORY;
    if (found >= 0) {
        if (found != guess && found != p->nodes[f->node].rest) {
            if (f->previous >= 0) p->nodes[f->previous].follower = found;
            else p->nodes[f->node].first_guess = found;
        }
        if (found != p->nodes[f->node].rest) f->previous = found;
        if (found != p->nodes[f->node].rest) {
            if (p->nodes[found].last_row == f->row) return BAD; /* the name stands twice in the object */
            p->nodes[found].last_row = f->row;
        }
        *node = found;
        *row = f->row;
        return OK;
    }
    if (p->nodes[f->node].entry < 0) {
        int32_t made = new_node(p, f->node, R_ENTRY, NULL, 0);
        if (made < 0) return NO_MEMORY;
        p->nodes[f->node].entry = made;
    }
    *node = p->nodes[f->node].entry;
    Node *entry = &p->nodes[*node];
    *row = entry->row_count++;
    if (put_i32(&entry->parent_rows, f->row) || put_i32(&entry->ordinals, *position + 1)) return NO_MEMORY;
    *position = 0;
    return put_text(&entry->keys, name, size);
}

static int next_element(Parser *p, int32_t *node, int32_t *row, int32_t *position) {
    Frame *f = &p->frames[p->depth - 1];
    Node *e = &p->nodes[f->element];
    *node = f->element;
    *row = e->row_count++;
    *position = 0;
    f->count++;
    return put_i32(&e->parent_rows, f->row) || put_i32(&e->ordinals, f->count) ? NO_MEMORY : OK;
}

/* Says whether a value that begins so goes into columns; its text is taken besides if that is wanted. */
static inline int is_read(Parser *p, int32_t node, int first) {
    uint8_t wanted = p->nodes[node].wanted;
    if (wanted & W_RAW) return 0;
    return wanted & (first == '{' || first == '[' ? W_INSIDE : W_SCALARS);
}

static int copy_text(Parser *p, const uint8_t **s, Buffer *out) {
    const char *bytes;
    size_t size;
    int status = read_text(p, s, &bytes, &size);
    if (status || !out) return status;
    if (put_u8(out, '"')) return NO_MEMORY;
    for (size_t i = 0, from = 0; i <= size; i++) {
        uint8_t c = i < size ? (uint8_t)bytes[i] : '"';
        int half = is_half((const uint8_t *)bytes + i, (const uint8_t *)bytes + size);
        if (i < size && c != '"' && c != '\\' && c >= 0x20 && !half) continue;
        if (put_bytes(out, bytes + from, i - from)) return NO_MEMORY;
        from = i + 1;
        if (i == size) break;
        char escape[8];
        static const char named[] = "\bb\tt\nn\ff\rr\"\"\\\\";
        const char *found = NULL;
        for (const char *at = named; *at; at += 2) if ((uint8_t)*at == c) found = at;
        if (half) {
            snprintf(escape, sizeof escape, "\\u%04x", (unsigned)half_at((const uint8_t *)bytes + i));
            i += 2;
            from = i + 1;
        } else if (found) snprintf(escape, sizeof escape, "\\%c", found[1]);
        else snprintf(escape, sizeof escape, "\\u%04x", c);
        if (put_bytes(out, escape, strlen(escape))) return NO_MEMORY;
    }
    return put_u8(out, '"');
}

static int copy_scalar(Parser *p, const uint8_t **s, Buffer *out) {
    const uint8_t *from = *s, *at = from, *end = p->end;
    if (*at == '"') {
        (*s)++;
        return copy_text(p, s, out);
    }
    static const struct { const char *word; size_t size; } words[] = {{"true", 4}, {"false", 5}, {"null", 4}};
    for (int i = 0; i < 3 && *at > '9'; i++)
        if ((size_t)(end - at) >= words[i].size && !memcmp(at, words[i].word, words[i].size)) {
            *s = at + words[i].size;
            if (is_glued(*s, end)) return BAD;
            return out ? put_bytes(out, from, words[i].size) : OK;
        }
    if (at < end && *at == '-') at++;
    if (!is_digit(at, end)) return BAD;
    if (*at == '0') at++; else while (is_digit(at, end)) at++;
    if (at < end && *at == '.') {
        at++;
        if (!is_digit(at, end)) return BAD;
        while (is_digit(at, end)) at++;
    }
    if (at < end && (*at == 'e' || *at == 'E')) {
        at++;
        if (at < end && (*at == '+' || *at == '-')) at++;
        if (!is_digit(at, end)) return BAD;
        while (is_digit(at, end)) at++;
    }
    if (is_glued(at, end)) return BAD;
    *s = at;
    return out ? put_bytes(out, from, (size_t)(at - from)) : OK;
}

/* Checks one JSON value at *s, and writes it without white space if `out` is given. */
static int walk_value(Parser *p, const uint8_t **start, Buffer *out) {
    const uint8_t *s = *start, *end = p->end;
    int status;
    p->brackets.used = 0;
#define WRITE(c) if (out && put_u8(out, c)) return NO_MEMORY
    for (;;) {
        s = skip_space(s, end);
        if (s >= end) return BAD;
        int is_open = *s == '{' || *s == '[';
        if (is_open) {
            if (p->depth + (int32_t)p->brackets.used >= p->depth_limit) return BAD;
            if (put_u8(&p->brackets, *s)) return NO_MEMORY;
            WRITE(*s);
            uint8_t closing = *s == '{' ? '}' : ']';
            s = skip_space(s + 1, end);
            if (s < end && *s == closing) { WRITE(closing); s++; p->brackets.used--; is_open = 0; }
        } else if ((status = copy_scalar(p, &s, out))) return status;
        while (!is_open && p->brackets.used) { /* behind a value */
            uint8_t bracket = (uint8_t)p->brackets.at[p->brackets.used - 1];
            s = skip_space(s, end);
            if (s >= end) return BAD;
            if (*s == ',') { WRITE(','); s = skip_space(s + 1, end); is_open = 1; }
            else if (*s == (bracket == '{' ? '}' : ']')) { WRITE(*s); s++; p->brackets.used--; }
            else return BAD;
        }
        if (!is_open) break;
        if (p->brackets.at[p->brackets.used - 1] == '{') {
            if (s >= end || *s != '"') return BAD;
            s++;
            if ((status = copy_text(p, &s, out))) return status;
            s = skip_space(s, end);
            if (s >= end || *s != ':') return BAD;
            WRITE(':');
            s++;
        }
    }
#undef WRITE
    *start = s;
    return OK;
}

/* Deals with a value at *s that is not (only) read into columns; *s goes behind it. */
static int copy_value(Parser *p, const uint8_t **s, int32_t node, int32_t row) {
    Node *n = &p->nodes[node];
    int is_null = **s == 'n';
    if (!(n->wanted & W_RAW)) {
        n->passed += !is_null;
        return **s == '{' || **s == '[' ? walk_value(p, s, NULL) : copy_scalar(p, s, NULL);
    }
    const uint8_t *from = *s;
    size_t before = n->raws.data.used;
    int status = walk_value(p, s, &n->raws.data);
    if (status) return status;
    if (is_null) n->raws.data.used = before;
    else if (put_i32(&n->raw_rows, row) || put_i64(&n->raws.lengths, (int64_t)(n->raws.data.used - before))) return NO_MEMORY;
    if (!(n->wanted & (W_SCALARS | W_INSIDE))) return OK;
    *s = from;
    return AGAIN;
}

/* Reads one JSON text at *s into the next row of the record node. */
static int read_record(Parser *p, const uint8_t **start) {
    const uint8_t *s = *start, *end = p->end;
    int32_t node = 0, row = p->nodes[0].row_count++, position = 0;
    int status;
    p->depth = 0;
    for (;;) {
        s = skip_space(s, end);
        if (s >= end) return BAD;
        int closed = 0, here = *s;
        if (p->selection && !is_read(p, node, here)) {
            /* passed over, or only its text is wanted */
            status = copy_value(p, &s, node, row);
            if (status && status != AGAIN) return status;
            uint8_t rest = p->nodes[node].wanted & (here == '{' || here == '[' ? W_INSIDE : W_SCALARS);
            if (status == OK) here = -1;
            else if (!rest) { /* the other kind of value is wanted in columns, not this one */
                if ((status = walk_value(p, &s, NULL))) return status;
                here = -1;
            }
        }
        switch (here) {
            case -1: break;
            case '{':
                s++;
                if (occur(&p->nodes[node], row, K_OBJECT, position)) return NO_MEMORY;
                if ((status = push(p, node, row, 0, -1))) return status;
                s = skip_space(s, end);
                if (s < end && *s == '}') { s++; p->depth--; break; }
                if ((status = read_name(p, &s, &node, &row, &position))) return status;
                continue;
            case '[': {
                s++;
                if (occur(&p->nodes[node], row, K_ARRAY, position)) return NO_MEMORY;
                if (p->nodes[node].element < 0) {
                    int32_t made = new_node(p, node, R_ELEMENT, NULL, 0);
                    if (made < 0) return NO_MEMORY;
                    p->nodes[node].element = made;
                }
                if ((status = push(p, node, row, 1, p->nodes[node].element))) return status;
                s = skip_space(s, end);
                if (s < end && *s == ']') { s++; p->depth--; break; }
                if ((status = next_element(p, &node, &row, &position))) return status;
                continue;
            }
            case '"': {
                const char *bytes;
                size_t size;
                s++;
                if ((status = read_text(p, &s, &bytes, &size))) return status;
                if ((status = spell_halves(p, &bytes, &size, p->tells_halves))) return status;
                Node *n = &p->nodes[node];
                if (occur(n, row, K_TEXT, position) || put_text(&n->texts, bytes, size)) return NO_MEMORY;
                break;
            }
            case 't': case 'f': case 'n':
                if ((status = read_word(p, &s, &p->nodes[node], row, position))) return status;
                break;
            default:
                if (*s != '-' && !is_digit(s, end)) return BAD;
                if ((status = read_number(p, &s, &p->nodes[node], row, position))) return status;
        }
        while (p->depth && !closed) { /* behind a value: on to the next, or close the container */
            Frame *f = &p->frames[p->depth - 1];
            s = skip_space(s, end);
            if (s >= end) return BAD;
            if (*s == ',') {
                s++;
                status = f->is_array ? next_element(p, &node, &row, &position)
                                     : read_name(p, &s, &node, &row, &position);
                if (status) return status;
                closed = 1;
            } else if (*s == (f->is_array ? ']' : '}')) {
                s++;
                p->depth--;
            } else return BAD;
        }
        if (!p->depth && !closed) break;
    }
    *start = s;
    return OK;
}

static int has_line_break(const uint8_t *from, const uint8_t *to) {
    return memchr(from, '\n', (size_t)(to - from)) != NULL;
}

/* Reads all records; stops with BAD at the first that cannot be read. */
static int read_all(Parser *p, int separator, int continues) {
    const uint8_t *s = p->text, *end = p->end;
    int comma_due = separator == S_COMMA && continues;
    for (;;) {
        s = skip_space(s, end);
        if (s >= end && !(comma_due && p->nodes[0].row_count == 0)) return OK;
        if (separator == S_COMMA) {
            if (comma_due) {
                if (s >= end || *s != ',') return BAD;
                s = skip_space(s + 1, end);
            }
            if (s >= end || *s == ',') return BAD;
            comma_due = 1;
        }
        const uint8_t *record = s;
        int status = read_record(p, &s);
        if (status) return status;
        if (separator == S_LINE && has_line_break(record, s)) return BAD;
        if (put_i64(&p->offsets, record - p->text)) return NO_MEMORY;
    }
}

/* ---- results ------------------------------------------------------------------------------------ */

static Buffer *lane_of(Parser *p, int32_t node, size_t offset_in_node) {
    return (Buffer *)((char *)&p->nodes[node] + offset_in_node);
}

static PyObject *joined(Parser *p, size_t offset_in_node) {
    size_t total = 0;
    for (int32_t i = 0; i < p->node_count; i++) total += lane_of(p, i, offset_in_node)->used;
    PyObject *bytes = PyBytes_FromStringAndSize(NULL, (Py_ssize_t)total);
    if (!bytes) return NULL;
    char *at = PyBytes_AS_STRING(bytes);
    for (int32_t i = 0; i < p->node_count; i++) {
        Buffer *b = lane_of(p, i, offset_in_node);
        if (b->used) memcpy(at, b->at, b->used);
        at += b->used;
    }
    return bytes;
}

static PyObject *counts_of(Parser *p, size_t offset_in_node, size_t width) {
    Buffer out = {0};
    for (int32_t i = 0; i < p->node_count; i++) {
        if (put_i64(&out, (int64_t)(lane_of(p, i, offset_in_node)->used / width))) { free(out.at); return PyErr_NoMemory(); }
    }
    PyObject *bytes = PyBytes_FromStringAndSize(out.at, (Py_ssize_t)out.used);
    free(out.at);
    return bytes;
}

static int set(PyObject *dict, const char *key, PyObject *value) {
    if (!value) return -1;
    int status = PyDict_SetItemString(dict, key, value);
    Py_DECREF(value);
    return status;
}

static int finish_lists(Parser *p) { /* explicit rows and positions, so that all nodes read alike */
    for (int32_t i = 0; i < p->node_count; i++) {
        Node *n = &p->nodes[i];
        int32_t level_rows = p->nodes[n->level].row_count;
        if (n->in_every_row && n->kinds.used != (size_t)level_rows && list_rows(n)) return NO_MEMORY;
        if (!n->in_every_row && n->rows.used == (size_t)level_rows * 4) { n->rows.used = 0; n->in_every_row = 1; }
        if (n->same_position && n->kinds.used && n->role == R_MEMBER &&
            put_i32(&n->positions, n->position)) return NO_MEMORY;
    }
    return OK;
}

static PyObject *heads(Parser *p) {
    PyObject *list = PyList_New(p->node_count);
    for (int32_t i = 0; list && i < p->node_count; i++) {
        Node *n = &p->nodes[i];
        PyObject *name = Py_None;
        if (n->name) name = PyUnicode_DecodeUTF8(n->name, n->name_size, NULL);
        else Py_INCREF(name);
        PyObject *head = name ? Py_BuildValue("(iiNiiLi)", n->parent, (int)n->role, name,
                                              (int)p->nodes[n->level].row_count, (int)n->in_every_row,
                                              (long long)n->passed, (int)n->wanted)
                              : NULL;
        if (!head) { Py_CLEAR(list); break; }
        PyList_SET_ITEM(list, i, head);
    }
    return list;
}

static PyObject *result(Parser *p) {
    PyObject *dict = PyDict_New();
    if (!dict || finish_lists(p)) goto fail;
    static const struct { const char *name; size_t offset, width; } lanes[] = {
        {"parent_rows", offsetof(Node, parent_rows), 4}, {"ordinals", offsetof(Node, ordinals), 4},
        {"rows", offsetof(Node, rows), 4}, {"kinds", offsetof(Node, kinds), 1},
        {"positions", offsetof(Node, positions), 4}, {"booleans", offsetof(Node, booleans), 1},
        {"integers", offsetof(Node, integers), 8}, {"numbers", offsetof(Node, numbers.lengths), 8},
        {"texts", offsetof(Node, texts.lengths), 8}, {"keys", offsetof(Node, keys.lengths), 8},
        {"raw_rows", offsetof(Node, raw_rows), 4}, {"raws", offsetof(Node, raws.lengths), 8}};
    static const struct { const char *name; size_t offset; } data[] = {
        {"numbers_data", offsetof(Node, numbers.data)}, {"texts_data", offsetof(Node, texts.data)},
        {"keys_data", offsetof(Node, keys.data)}, {"raws_data", offsetof(Node, raws.data)}};
    for (size_t i = 0; i < sizeof(lanes) / sizeof(*lanes); i++) {
        char key[32];
        snprintf(key, sizeof key, "%s_counts", lanes[i].name);
        if (set(dict, lanes[i].name, joined(p, lanes[i].offset)) ||
            set(dict, key, counts_of(p, lanes[i].offset, lanes[i].width))) goto fail;
    }
    for (size_t i = 0; i < sizeof(data) / sizeof(*data); i++)
        if (set(dict, data[i].name, joined(p, data[i].offset))) goto fail;
    if (set(dict, "heads", heads(p)) ||
        set(dict, "offsets", PyBytes_FromStringAndSize(p->offsets.at, (Py_ssize_t)p->offsets.used))) goto fail;
    return dict;
fail:
    Py_XDECREF(dict);
    return PyErr_Occurred() ? NULL : PyErr_NoMemory();
}

static void free_parser(Parser *p) {
    for (int32_t i = 0; i < p->node_count; i++) free_node(&p->nodes[i]);
    free(p->nodes); free(p->frames); free(p->scratch.at); free(p->spelled.at); free(p->brackets.at); free(p->offsets.at);
}

static PyObject *py_parse(PyObject *self, PyObject *args) {
    Py_buffer buffer;
    int separator, continues, member_limit, depth_limit, status, tells_halves = 0;
    PyObject *selection = Py_None;
    if (!PyArg_ParseTuple(args, "y*iiii|Op", &buffer, &separator, &continues, &member_limit, &depth_limit,
                          &selection, &tells_halves))
        return NULL;
    Parser p = {0};
    p.selection = selection == Py_None ? NULL : selection;
    p.text = buffer.buf;
    p.end = p.text + buffer.len;
    p.member_limit = member_limit;
    p.depth_limit = depth_limit;
    p.tells_halves = (uint8_t)tells_halves;
    Py_BEGIN_ALLOW_THREADS
    status = new_node(&p, -1, R_RECORD, NULL, 0) < 0 ? NO_MEMORY : read_all(&p, separator, continues);
    Py_END_ALLOW_THREADS
    PyObject *made;
    if (PyErr_Occurred()) made = NULL;
    else if (status == BAD) { made = Py_None; Py_INCREF(made); }
    else made = status == NO_MEMORY ? PyErr_NoMemory() : result(&p);
    free_parser(&p);
    PyBuffer_Release(&buffer);
    return made;
}

#include "_fastxml.h"

/* ---- splitting ---------------------------------------------------------------------------------- */

/* scan(block, in_text, escaping, depth, at_depth, on_comma): finds where to cut a block.
 * With on_comma: the last comma at `at_depth` (before it); else behind the last bracket that closes to
 * depth 0, or line break there. Stops behind the bracket that closes below `at_depth` when on_comma.
 * Returns (cut or -1, closing bracket or -1, in_text, escaping, depth). */
static PyObject *py_scan(PyObject *self, PyObject *args) {
    Py_buffer buffer;
    int in_text, escaping, on_comma;
    long long depth, at_depth;
    if (!PyArg_ParseTuple(args, "y*iiLLi", &buffer, &in_text, &escaping, &depth, &at_depth, &on_comma)) return NULL;
    const uint8_t *text = buffer.buf, *s = text, *end = text + buffer.len;
    long long cut = -1, closing = -1;
    Py_BEGIN_ALLOW_THREADS
    while (s < end) {
        if (in_text) {
            if (escaping) { escaping = 0; s++; continue; }
            while (s < end && *s != '"' && *s != '\\') s++;
            if (s >= end) break;
            if (*s == '\\') escaping = 1; else in_text = 0;
            s++;
            continue;
        }
        uint8_t c = *s++;
        switch (c) {
            case '"': in_text = 1; break;
            case '{': case '[': depth++; break;
            case '}': case ']':
                depth--;
                if (on_comma) { if (depth < at_depth) { closing = s - 1 - text; end = s; } }
                else if (depth <= 0) cut = s - text;
                break;
            case ',': if (on_comma && depth == at_depth) cut = s - 1 - text; break;
            case '\n': if (!on_comma && depth <= 0) cut = s - text; break;
        }
    }
    Py_END_ALLOW_THREADS
    PyBuffer_Release(&buffer);
    return Py_BuildValue("(LLiiL)", cut, closing, in_text, escaping, depth);
}

static PyMethodDef methods[] = {
    {"parse_xml", py_parse_xml, METH_VARARGS, "The lanes of a fragment, from XML; see _fastxml.h."},
    {"parse", py_parse, METH_VARARGS, "Return the lanes of a fragment, or None if a record is bad."},
    {"scan", py_scan, METH_VARARGS, "Return where to cut a block, and the state behind it."},
    {NULL, NULL, 0, NULL}};

static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "_fastjson", "The compiled JSON kernel.", 0, methods};

PyMODINIT_FUNC PyInit__fastjson(void) { return PyModule_Create(&module); }
