/* What the compiled kernels and the compiled passes share: growing buffers, and the tape itself.
 *
 * A tape is the values of a chunk in the order of the document, as four plain arrays of one length and the bytes of
 * the texts. A value comes after the one it stands in. See tape.py.
 */
#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

enum { K_NULL, K_BOOLEAN, K_INTEGER, K_LONG_INTEGER, K_FRACTION, K_TEXT, K_OBJECT, K_ARRAY, KINDS,
       M_PASSED = 8, M_RAW, M_HOLE, M_ORDER };
enum { R_RECORD, R_MEMBER, R_ELEMENT, R_ENTRY, R_ORIGIN };
enum { OK = 0, BAD = 1, NO_MEMORY = 2, FAILED = 3, AGAIN = 4 };
enum { NO_NAME = -1 };

typedef struct { char *at; size_t used, room; } Buffer;

static int grow(Buffer *b, size_t more) {
    size_t need = b->used + more;
    if (need < more) return NO_MEMORY;
    if (need <= b->room) return OK;
    size_t room = b->room ? b->room * 2 : 64;
    while (room < need) {
        if (room > SIZE_MAX / 2) return NO_MEMORY;
        room *= 2;
    }
    char *at = realloc(b->at, room);
    if (!at) return NO_MEMORY;
    b->at = at;
    b->room = room;
    return OK;
}

static inline int put_bytes(Buffer *b, const void *bytes, size_t size) {
    if (b->used + size > b->room && grow(b, size)) return NO_MEMORY;
    if (size) memcpy(b->at + b->used, bytes, size);
    b->used += size;
    return OK;
}

#define DEFINE_PUT(name, type)                                                           \
    static inline int name(Buffer *b, type value) {                                      \
        if (b->used + sizeof(type) > b->room && grow(b, sizeof(type))) return NO_MEMORY; \
        memcpy(b->at + b->used, &value, sizeof(type));                                   \
        b->used += sizeof(type);                                                         \
        return OK;                                                                       \
    }
DEFINE_PUT(put_u8, uint8_t)
DEFINE_PUT(put_i32, int32_t)
DEFINE_PUT(put_i64, int64_t)

#define AT(buffer, type, index) (((type *)(buffer).at)[index])
#define COUNT(buffer, type) ((int32_t)((buffer).used / sizeof(type)))

static inline uint64_t hash_of(const char *name, size_t size) {
    uint64_t h = 1469598103934665603ULL ^ size;
    for (; size >= 8; size -= 8, name += 8) {
        uint64_t word;
        memcpy(&word, name, 8);
        h = (h ^ word) * 0x9E3779B97F4A7C15ULL;
        h ^= h >> 32;
    }
    for (size_t i = 0; i < size; i++) h = (h ^ (uint8_t)name[i]) * 1099511628211ULL;
    h ^= h >> 29;
    h *= 0xBF58476D1CE4E5B9ULL;
    return h ^ (h >> 32);
}

/* ---- names: each once, with a number ---------------------------------------------------------------- */

typedef struct {
    size_t from;       /* where it begins in `text` */
    int32_t size;
    uint64_t hash;
} Name;

typedef struct {
    Name *at;
    int32_t count, room;
    int32_t *table;    /* numbers by hash, or -1 */
    int32_t table_room;
    Buffer text;
} Names;

static inline const char *name_text(const Names *n, int32_t number) { return n->text.at + n->at[number].from; }

static int enlarge_names(Names *n) {
    if (n->table_room > INT32_MAX / 4) return NO_MEMORY;
    int32_t room = n->table_room ? n->table_room * 2 : 64;
    int32_t *table = malloc((size_t)room * sizeof(int32_t));
    if (!table) return NO_MEMORY;
    memset(table, 0xff, (size_t)room * sizeof(int32_t));
    for (int32_t i = 0; i < n->count; i++) {
        int32_t at = (int32_t)(n->at[i].hash & (uint64_t)(room - 1));
        while (table[at] >= 0) at = (at + 1) & (room - 1);
        table[at] = i;
    }
    free(n->table);
    n->table = table;
    n->table_room = room;
    return OK;
}

/* Returns the number of a name, a new one if need be; -1 without memory. */
static int32_t intern(Names *n, const char *text, size_t size) {
    if (size > INT32_MAX || (2 * (n->count + 1) > n->table_room && enlarge_names(n))) return -1;
    uint64_t hash = hash_of(text, size);
    int32_t at = (int32_t)(hash & (uint64_t)(n->table_room - 1));
    for (; n->table[at] >= 0; at = (at + 1) & (n->table_room - 1)) {
        const Name *name = &n->at[n->table[at]];
        if (name->hash == hash && (size_t)name->size == size && !memcmp(n->text.at + name->from, text, size))
            return n->table[at];
    }
    if (n->count == n->room) {
        int32_t room = n->room ? n->room * 2 : 64;
        Name *names = realloc(n->at, (size_t)room * sizeof(Name));
        if (!names) return -1;
        n->at = names;
        n->room = room;
    }
    n->at[n->count] = (Name){n->text.used, (int32_t)size, hash};
    if (put_bytes(&n->text, text, size) || grow(&n->text, 1)) return -1;
    n->table[at] = n->count;
    return n->count++;
}

/* Returns the number of a name; -1 if it is not among them. */
static inline int32_t number_of(const Names *n, const char *text, size_t size) {
    if (!n->count) return -1;
    uint64_t hash = hash_of(text, size);
    for (int32_t at = (int32_t)(hash & (uint64_t)(n->table_room - 1)); n->table[at] >= 0;
         at = (at + 1) & (n->table_room - 1)) {
        const Name *name = &n->at[n->table[at]];
        if (name->hash == hash && (size_t)name->size == size && !memcmp(n->text.at + name->from, text, size))
            return n->table[at];
    }
    return -1;
}

static void free_names(Names *n) {
    free(n->at);
    free(n->table);
    free(n->text.at);
}

/* Adds an object to a dict, and lets go of it; -1 if there is none or that fails. */
static int set_item(PyObject *dict, const char *key, PyObject *value) {
    if (!value) return -1;
    int status = PyDict_SetItemString(dict, key, value);
    Py_DECREF(value);
    return status;
}

static PyObject *bytes_of(const Buffer *b) { return PyBytes_FromStringAndSize(b->at, (Py_ssize_t)b->used); }
