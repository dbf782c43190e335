/* The compiled JSON kernel: bytes of whole records -> tape.
 *
 * It does what json_kernel.py does, and the same tests run on both. When a record is bad, or has a name
 * twice in one object, it gives up the chunk; the careful way of fast_kernel.py then finds what is wrong. No
 * Python object is made while parsing, so the interpreter lock is free meanwhile.
 */
#include "_tape.h"

enum { W_SCALARS = 1, W_RAW = 2, W_INSIDE = 4, W_ALL = W_SCALARS | W_INSIDE };
enum { S_LINE, S_COMMA, S_NOTHING };

/* ---- the tape being written ------------------------------------------------------------------------ */

typedef struct {
    uint8_t *kinds;
    int32_t *names, *parents;
    int64_t *values;
    int32_t count, room;
    Buffer data;       /* the bytes of texts and number texts */
    Names steps;       /* the names, as steps of paths */
} Writer;

static int grow_tape(Writer *w) {
    if (w->room > INT32_MAX / 2) return NO_MEMORY;
    int32_t room = w->room ? w->room * 2 : 1024;
    void *made;
#define GROW(lane) \
    if (!(made = realloc(w->lane, (size_t)room * sizeof(*w->lane)))) return NO_MEMORY; \
    w->lane = made
    GROW(kinds); GROW(names); GROW(parents); GROW(values);
#undef GROW
    w->room = room;
    return OK;
}

static inline int put_value(Writer *w, int kind, int32_t name, int32_t parent, int64_t value) {
    if (w->count == w->room && grow_tape(w)) return NO_MEMORY;
    int32_t i = w->count++;
    w->kinds[i] = (uint8_t)kind;
    w->names[i] = name;
    w->parents[i] = parent;
    w->values[i] = value;
    return OK;
}

/* Puts a value whose text has been put at the end of `data`, from `from` on. */
static inline int put_placed(Writer *w, int kind, int32_t name, int32_t parent, size_t from) {
    size_t size = w->data.used - from;
    if (from > UINT32_MAX || size > UINT32_MAX) return NO_MEMORY;
    return put_value(w, kind, name, parent, (int64_t)((uint64_t)from | (uint64_t)size << 32));
}

static inline int put_text(Writer *w, int kind, int32_t name, int32_t parent, const void *bytes, size_t size) {
    size_t from = w->data.used;
    return put_bytes(&w->data, bytes, size) || put_placed(w, kind, name, parent, from) ? NO_MEMORY : OK;
}

static void free_writer(Writer *w) {
    free(w->kinds);
    free(w->names);
    free(w->parents);
    free(w->values);
    free(w->data.at);
    free_names(&w->steps);
}

/* Where a new value stands, and what is wanted of it. */
typedef struct { int32_t name, parent, place; uint8_t wanted; } Spot;

/* An open object or array: its index on the tape, the name that its members go by in `hints`. */
typedef struct { int32_t index, hint, place, previous; uint8_t is_array; size_t members; } Frame;

/* What is guessed of the order of members: the name that came after a name last time, and first in its objects. */
typedef struct { int32_t follower, first; uint8_t is_plain; int32_t seen_in; } Hint;

typedef struct { uint64_t key; int32_t place; int32_t wanted; } Asked;

typedef struct {
    const uint8_t *text, *end;
    Writer tape;
    Buffer hints;        /* a Hint for each name, one more in front for what has none */
    Frame *frames;
    int32_t depth, frame_room, depth_limit;
    Buffer members;      /* the names of the members of all open objects */
    Buffer scratch;      /* an unescaped text */
    Buffer spelled;      /* the same with half surrogates spelled out */
    uint8_t had_escapes, had_halves; /* of the text read last */
    uint8_t tells_halves; /* whether values that look like half surrogates are told from these */
    Buffer offsets;      /* where each record begins */
    Buffer brackets;     /* the open brackets of a value that is passed over or copied */
    PyObject *selection; /* says what is wanted; NULL for everything */
    Asked *asked;        /* what it said, by place and name */
    int32_t asked_count, asked_room;
    size_t raw_from;     /* where the text of the value that is read begins, if that is wanted */
    uint8_t has_raw;
} Parser;

static inline Hint *hint_of(Parser *p, int32_t name) { return &AT(p->hints, Hint, name + 1); }

/* Returns the number of a name, with a hint; -1 without memory. */
static int32_t name_number(Parser *p, const char *name, size_t size) {
    int32_t number = intern(&p->tape.steps, name, size);
    if (number < 0) return -1;
    if (number + 1 >= COUNT(p->hints, Hint)) {
        Hint hint = {-1, -1, 1, -1};
        for (size_t i = 0; i < size; i++)
            if ((uint8_t)name[i] < 0x20 || name[i] == '"' || name[i] == '\\') hint.is_plain = 0;
        if (put_bytes(&p->hints, &hint, sizeof hint)) return -1;
    }
    return number;
}

/* Asks the selection what is wanted at a place; once for each place and name of a chunk. */
static int ask(Parser *p, int32_t place, int32_t name, Spot *spot) {
    if (place < 0) { spot->place = -1; spot->wanted = 0; return OK; }
    uint64_t key = ((uint64_t)(uint32_t)place << 32 | (uint32_t)(name + 2)) + 1;
    if (2 * (p->asked_count + 1) > p->asked_room) {
        int32_t room = p->asked_room ? p->asked_room * 2 : 64;
        Asked *asked = calloc((size_t)room, sizeof(Asked));
        if (!asked) return NO_MEMORY;
        for (int32_t i = 0; i < p->asked_room; i++) {
            if (!p->asked[i].key) continue;
            int32_t at = (int32_t)(p->asked[i].key * 0x9E3779B97F4A7C15ULL >> 32 & (uint64_t)(room - 1));
            while (asked[at].key) at = (at + 1) & (room - 1);
            asked[at] = p->asked[i];
        }
        free(p->asked);
        p->asked = asked;
        p->asked_room = room;
    }
    int32_t at = (int32_t)(key * 0x9E3779B97F4A7C15ULL >> 32 & (uint64_t)(p->asked_room - 1));
    for (; p->asked[at].key; at = (at + 1) & (p->asked_room - 1))
        if (p->asked[at].key == key) {
            spot->place = p->asked[at].place;
            spot->wanted = (uint8_t)p->asked[at].wanted;
            return OK;
        }
    PyGILState_STATE state = PyGILState_Ensure();
    PyObject *made = name == -2   ? PyObject_CallFunction(p->selection, "iO", (int)place, Py_True)
                     : name < 0   ? PyObject_CallFunction(p->selection, "iO", (int)place, Py_None)
                                  : PyObject_CallFunction(p->selection, "is#", (int)place, name_text(&p->tape.steps, name),
                                                          (Py_ssize_t)p->tape.steps.at[name].size);
    int place_found = -1, wanted = 0;
    int status = made && PyArg_ParseTuple(made, "ii", &place_found, &wanted) ? OK : FAILED;
    Py_XDECREF(made);
    PyGILState_Release(state);
    p->asked[at] = (Asked){key, place_found, wanted};
    p->asked_count++;
    spot->place = place_found;
    spot->wanted = (uint8_t)wanted;
    return status;
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

/* Reads a number at *s: its kind, and its value or (for kinds that keep their text) where the text ends. */
static int read_number(Parser *p, const uint8_t **s, int *kind, int64_t *integer) {
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
    *kind = K_FRACTION;
    if (fraction) return OK;
    int negative = *from == '-';
    /* 19 digits do not overflow 64 bits without sign */
    int fits = whole <= 19 && value <= (uint64_t)INT64_MAX + (uint64_t)negative && !(negative && value == 0);
    *kind = fits ? K_INTEGER : K_LONG_INTEGER;
    *integer = negative ? (int64_t)(0 - value) : (int64_t)value;
    return OK;
}

/* Reads one of the three words at *s. */
static int read_word(Parser *p, const uint8_t **s, int *kind, int64_t *value) {
    static const struct { const char *word; size_t size; int kind; int64_t value; } words[] = {
        {"true", 4, K_BOOLEAN, 1}, {"false", 5, K_BOOLEAN, 0}, {"null", 4, K_NULL, 0}};
    for (int i = 0; i < 3; i++) {
        if ((size_t)(p->end - *s) < words[i].size || memcmp(*s, words[i].word, words[i].size)) continue;
        *s += words[i].size;
        *kind = words[i].kind;
        *value = words[i].value;
        return is_glued(*s, p->end) ? BAD : OK;
    }
    return BAD;
}

/* ---- records ------------------------------------------------------------------------------------ */

static int push(Parser *p, int32_t index, const Spot *spot, uint8_t is_array) {
    if (p->depth >= p->depth_limit) return BAD;
    if (p->depth == p->frame_room) {
        int32_t room = p->frame_room ? p->frame_room * 2 : 64;
        Frame *frames = realloc(p->frames, (size_t)room * sizeof(Frame));
        if (!frames) return NO_MEMORY;
        p->frames = frames;
        p->frame_room = room;
    }
    int32_t hint = spot->name >= 0 ? spot->name : p->depth ? p->frames[p->depth - 1].hint : -1;
    p->frames[p->depth++] = (Frame){index, hint, spot->place, -1, is_array, p->members.used};
    return OK;
}

/* Closes the innermost container; BAD if it is an object with a name twice. */
static int pop(Parser *p) {
    Frame *f = &p->frames[--p->depth];
    if (f->is_array) return OK;
    int32_t *name = (int32_t *)(p->members.at + f->members), *stop = (int32_t *)(p->members.at + p->members.used);
    for (; name < stop; name++) {
        Hint *hint = hint_of(p, *name);
        if (hint->seen_in == f->index) return BAD;
        hint->seen_in = f->index;
    }
    p->members.used = f->members;
    return OK;
}

/* Says whether a name, with its closing quote, stands at s. */
static inline int is_next(Parser *p, int32_t name, const uint8_t *s) {
    const Name *n = &p->tape.steps.at[name];
    return hint_of(p, name)->is_plain && p->end - s > n->size && s[n->size] == '"' &&
           !memcmp(s, p->tape.steps.text.at + n->from, (size_t)n->size);
}

/* Reads the name and colon of the next member of the innermost object; gives where its value stands. */
static int read_name(Parser *p, const uint8_t **s, Spot *spot) {
    Frame *f = &p->frames[p->depth - 1];
    *s = skip_space(*s, p->end);
    if (*s >= p->end || **s != '"') return BAD;
    (*s)++;
    int32_t guess = f->previous >= 0 ? hint_of(p, f->previous)->follower : hint_of(p, f->hint)->first;
    if (guess >= 0 && is_next(p, guess, *s)) { /* the usual order of members: no need to scan */
        *s += p->tape.steps.at[guess].size + 1;
    } else {
        const char *name;
        size_t size;
        int status = read_text(p, s, &name, &size);
        if (!status) status = name_to_step(p, &name, &size);
        if (status) return status;
        guess = name_number(p, name, size);
        if (guess < 0) return NO_MEMORY;
        if (f->previous >= 0) hint_of(p, f->previous)->follower = guess;
        else hint_of(p, f->hint)->first = guess;
    }
    f->previous = guess;
    if (put_i32(&p->members, guess)) return NO_MEMORY;
    *s = skip_space(*s, p->end);
    if (*s >= p->end || **s != ':') return BAD;
    (*s)++;
    spot->name = guess;
    spot->parent = f->index;
    return p->selection ? ask(p, f->place, guess, spot) : OK;
}

static int next_element(Parser *p, Spot *spot) {
    Frame *f = &p->frames[p->depth - 1];
    spot->name = NO_NAME;
    spot->parent = f->index;
    return p->selection ? ask(p, f->place, NO_NAME, spot) : OK;
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

/* Deals with a value at *s that is not (only) read; *s goes behind it. AGAIN says that it is to be read too. */
static int copy_value(Parser *p, const uint8_t **s, const Spot *spot) {
    Writer *w = &p->tape;
    int is_open = **s == '{' || **s == '[', is_null = **s == 'n';
    if (!(spot->wanted & W_RAW)) {
        int status = is_open ? walk_value(p, s, NULL) : copy_scalar(p, s, NULL);
        if (status) return status;
        return put_value(w, is_null ? M_HOLE : M_PASSED, spot->name, spot->parent, 0);
    }
    const uint8_t *from = *s;
    p->raw_from = w->data.used;
    int status = walk_value(p, s, &w->data);
    if (status) return status;
    if (is_null) w->data.used = p->raw_from;
    p->has_raw = !is_null;
    if (spot->wanted & (is_open ? W_INSIDE : W_SCALARS)) {
        *s = from;
        return AGAIN;
    }
    if (put_value(w, M_HOLE, spot->name, spot->parent, 0)) return NO_MEMORY;
    if (!p->has_raw) return OK;
    p->has_raw = 0;
    return put_placed(w, M_RAW, NO_NAME, w->count - 1, p->raw_from);
}

/* Puts the value that was read; behind it its text, if that is wanted. */
static int put_read(Parser *p, int kind, const Spot *spot, int64_t value, const void *bytes, size_t size) {
    Writer *w = &p->tape;
    size_t raw_end = w->data.used;
    int status = bytes ? put_text(w, kind, spot->name, spot->parent, bytes, size)
                       : put_value(w, kind, spot->name, spot->parent, value);
    if (status || !p->has_raw) return status;
    p->has_raw = 0;
    return put_value(w, M_RAW, NO_NAME, w->count - 1,
                     (int64_t)((uint64_t)p->raw_from | (uint64_t)(raw_end - p->raw_from) << 32));
}

/* Reads one JSON text at *s. */
static int read_record(Parser *p, const uint8_t **start) {
    const uint8_t *s = *start, *end = p->end;
    Spot spot = {NO_NAME, -1, 0, W_ALL};
    int status;
    p->depth = 0;
    p->members.used = 0;
    if (p->selection && (status = ask(p, 0, -2, &spot))) return status;
    for (;;) {
        s = skip_space(s, end);
        if (s >= end) return BAD;
        int closed = 0, here = *s, kind = K_NULL;
        int64_t value = 0;
        if (spot.wanted != W_ALL && (spot.wanted & W_RAW || !(spot.wanted & (here == '{' || here == '[' ? W_INSIDE : W_SCALARS)))) {
            status = copy_value(p, &s, &spot);
            if (status && status != AGAIN) return status;
            if (status == OK) here = -1;
        }
        switch (here) {
            case -1: break;
            case '{':
                s++;
                if ((status = put_read(p, K_OBJECT, &spot, 0, NULL, 0))) return status;
                if ((status = push(p, p->tape.count - 1 - (p->tape.kinds[p->tape.count - 1] == M_RAW), &spot, 0))) return status;
                s = skip_space(s, end);
                if (s < end && *s == '}') { s++; p->depth--; break; }
                if ((status = read_name(p, &s, &spot))) return status;
                continue;
            case '[':
                s++;
                if ((status = put_read(p, K_ARRAY, &spot, 0, NULL, 0))) return status;
                if ((status = push(p, p->tape.count - 1 - (p->tape.kinds[p->tape.count - 1] == M_RAW), &spot, 1))) return status;
                s = skip_space(s, end);
                if (s < end && *s == ']') { s++; p->depth--; break; }
                if ((status = next_element(p, &spot))) return status;
                continue;
            case '"': {
                const char *bytes;
                size_t size;
                s++;
                if ((status = read_text(p, &s, &bytes, &size))) return status;
                if ((status = spell_halves(p, &bytes, &size, p->tells_halves))) return status;
                if (put_read(p, K_TEXT, &spot, 0, bytes, size)) return NO_MEMORY;
                break;
            }
            case 't': case 'f': case 'n':
                if ((status = read_word(p, &s, &kind, &value))) return status;
                if (put_read(p, kind, &spot, value, NULL, 0)) return NO_MEMORY;
                break;
            default: {
                const uint8_t *from = s;
                if (*s != '-' && !is_digit(s, end)) return BAD;
                if ((status = read_number(p, &s, &kind, &value))) return status;
                status = put_read(p, kind, &spot, value, kind == K_INTEGER ? NULL : from, (size_t)(s - from));
                if (status) return status;
            }
        }
        while (p->depth && !closed) { /* behind a value: on to the next, or close the container */
            Frame *f = &p->frames[p->depth - 1];
            s = skip_space(s, end);
            if (s >= end) return BAD;
            if (*s == ',') {
                s++;
                status = f->is_array ? next_element(p, &spot) : read_name(p, &s, &spot);
                if (status) return status;
                closed = 1;
            } else if (*s == (f->is_array ? ']' : '}')) {
                s++;
                if (pop(p)) return BAD;
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
    Hint nameless = {-1, -1, 0, -1};
    if (put_bytes(&p->hints, &nameless, sizeof nameless)) return NO_MEMORY;
    for (;;) {
        s = skip_space(s, end);
        if (s >= end && !(comma_due && p->tape.count == 0)) return OK;
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

static PyObject *lane_bytes(const void *lane, int32_t count, size_t width) {
    return PyBytes_FromStringAndSize(lane, (Py_ssize_t)((size_t)count * width));
}

/* Returns the tape as a dict of bytes, names as lengths and one text. */
static PyObject *tape_of(Writer *w, const Buffer *offsets) {
    PyObject *dict = PyDict_New();
    if (!dict) return NULL;
    Buffer sizes = {0};
    for (int32_t i = 0; i < w->steps.count; i++)
        if (put_i64(&sizes, w->steps.at[i].size)) { free(sizes.at); Py_DECREF(dict); return PyErr_NoMemory(); }
    int failed = set_item(dict, "kinds", lane_bytes(w->kinds, w->count, sizeof *w->kinds)) ||
                 set_item(dict, "names", lane_bytes(w->names, w->count, sizeof *w->names)) ||
                 set_item(dict, "parents", lane_bytes(w->parents, w->count, sizeof *w->parents)) ||
                 set_item(dict, "values", lane_bytes(w->values, w->count, sizeof *w->values)) ||
                 set_item(dict, "data", bytes_of(&w->data)) || set_item(dict, "step_sizes", bytes_of(&sizes)) ||
                 set_item(dict, "step_data", bytes_of(&w->steps.text)) || set_item(dict, "offsets", bytes_of(offsets));
    free(sizes.at);
    if (failed) Py_CLEAR(dict);
    return dict;
}

static void free_parser(Parser *p) {
    free_writer(&p->tape);
    free(p->frames); free(p->hints.at); free(p->members.at); free(p->scratch.at); free(p->spelled.at);
    free(p->brackets.at); free(p->offsets.at); free(p->asked);
}

static PyObject *py_parse(PyObject *self, PyObject *args) {
    Py_buffer buffer;
    int separator, continues, depth_limit, status, tells_halves = 0;
    PyObject *selection = Py_None;
    if (!PyArg_ParseTuple(args, "y*iii|Op", &buffer, &separator, &continues, &depth_limit, &selection, &tells_halves))
        return NULL;
    Parser p = {0};
    p.selection = selection == Py_None ? NULL : selection;
    p.text = buffer.buf;
    p.end = p.text + buffer.len;
    p.depth_limit = depth_limit;
    p.tells_halves = (uint8_t)tells_halves;
    Py_BEGIN_ALLOW_THREADS
    status = read_all(&p, separator, continues);
    Py_END_ALLOW_THREADS
    PyObject *made;
    if (PyErr_Occurred()) made = NULL;
    else if (status == BAD) { made = Py_None; Py_INCREF(made); }
    else made = status ? PyErr_NoMemory() : tape_of(&p.tape, &p.offsets);
    free_parser(&p);
    PyBuffer_Release(&buffer);
    return made;
}

#include "_fastxml.h"
#include "_cells.h"

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
    {"parse_xml", py_parse_xml, METH_VARARGS, "The tape of records of XML; see _fastxml.h."},
    {"parse", py_parse, METH_VARARGS, "Return a tape, or None if a record is bad."},
    {"cells", py_cells, METH_VARARGS, "What the texts of cells are; see _cells.h."},
    {"scan", py_scan, METH_VARARGS, "Return where to cut a block, and the state behind it."},
    {NULL, NULL, 0, NULL}};

static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "_fastjson", "The compiled kernels.", 0, methods};

PyMODINIT_FUNC PyInit__fastjson(void) { return PyModule_Create(&module); }
