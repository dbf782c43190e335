/* One number for all that stands in a record, whatever order its members have; see rebuild/tape_digests.py.
 *
 * Every value adds a word of where it stands and what it is; the sum is the record's. It does what
 * rebuild/record_digests.py does with columns, by another hash.
 */

enum { D_TEXT = 1, D_NUMBER, D_BOOLEAN, D_NULL, D_OBJECT, D_ARRAY, D_ELEMENT, D_ORDER };

static inline uint64_t tag(int what) { return 0x9E3779B97F4A7C15ULL * (uint64_t)what; }

/* The finalizer of SplitMix64 (Steele et al., 2014). */
static inline uint64_t mixed_up(uint64_t w) {
    w = (w ^ w >> 30) * 0xBF58476D1CE4E5B9ULL;
    w = (w ^ w >> 27) * 0x94D049BB133111EBULL;
    return w ^ w >> 31;
}

static inline uint64_t mix(uint64_t place, uint64_t word) {
    return mixed_up(place * 0x9E3779B97F4A7C15ULL + mixed_up(word));
}

/* SipHash-1-3 (Aumasson and Bernstein, 2012) with a key of its own. */
static uint64_t hash_bytes(const char *text, size_t size) {
    uint64_t a = 0x736f6d6570736575ULL ^ 0x5441535341524f4eULL, b = 0x646f72616e646f6dULL ^ 0x42726163b7776174ULL;
    uint64_t c = 0x6c7967656e657261ULL ^ 0x5441535341524f4eULL, d = 0x7465646279746573ULL ^ 0x42726163b7776174ULL;
#define TURN(x, n) ((x) << (n) | (x) >> (64 - (n)))
#define ROUND                                                     \
    a += b; b = TURN(b, 13) ^ a; a = TURN(a, 32); c += d; d = TURN(d, 16) ^ c; \
    a += d; d = TURN(d, 21) ^ a; c += b; b = TURN(b, 17) ^ c; c = TURN(c, 32)
    uint64_t word, last = (uint64_t)size << 56;
    for (; size >= 8; size -= 8, text += 8) {
        memcpy(&word, text, 8);
        d ^= word;
        ROUND;
        a ^= word;
    }
    for (size_t i = 0; i < size; i++) last |= (uint64_t)(uint8_t)text[i] << 8 * i;
    d ^= last;
    ROUND;
    a ^= last;
    c ^= 0xff;
    ROUND; ROUND; ROUND;
#undef ROUND
#undef TURN
    return a ^ b ^ c ^ d;
}

/* The word of a number text (RFC 8259, section 6): the same for all spellings of one value. */
static uint64_t number_word(const char *text, size_t size, Buffer *digits) {
    const char *s = text, *end = text + size;
    int negative = s < end && *s == '-';
    s += negative;
    int64_t exponent = 0;
    int seen_point = 0;
    digits->used = 0;
    for (; s < end && (is_decimal((uint8_t)*s) || *s == '.'); s++) {
        if (*s == '.') { seen_point = 1; continue; }
        exponent -= seen_point;
        if ((digits->used || *s != '0') && put_u8(digits, (uint8_t)*s)) return 0;
    }
    if (s < end) { /* an exponent */
        s++;
        int below = s < end && *s == '-';
        s += s < end && (*s == '-' || *s == '+');
        if (end - s > 17) return hash_bytes(text, size);
        int64_t shift = 0;
        for (; s < end; s++) shift = shift * 10 + (*s - '0');
        exponent += below ? -shift : shift;
    }
    while (digits->used && digits->at[digits->used - 1] == '0') { digits->used--; exponent++; }
    if (!digits->used) return mixed_up(0);
    if (exponent >= 0 && (int64_t)digits->used + exponent <= 18) {
        int64_t value = 0;
        for (size_t i = 0; i < digits->used; i++) value = value * 10 + (digits->at[i] - '0');
        while (exponent--) value *= 10;
        return mixed_up((uint64_t)(negative ? -value : value));
    }
    return mix(hash_bytes(digits->at, digits->used) + (uint64_t)negative, (uint64_t)exponent);
}

/* The word of a 64-bit integer: that of its text. */
static uint64_t integer_word(int64_t value, Buffer *digits) {
    if (value < 1000000000000000000LL && value > -1000000000000000000LL) return mixed_up((uint64_t)value);
    char text[24];
    int size = snprintf(text, sizeof text, "%lld", (long long)value);
    return number_word(text, (size_t)size, digits);
}

typedef struct { uint64_t own, elements; int32_t record; uint8_t is_markup, is_filled; } Site;

typedef struct {
    Site *sites;
    int32_t *positions;
    uint64_t *steps;      /* the hash of each step */
    uint8_t *step_kinds;  /* 0 of JSON, 1 of XML, 2 the text of XML */
    Buffer sums, digits;
    int exact;
} Digester;

static int add_word(Digester *d, int32_t record, uint64_t word) {
    AT(d->sums, uint64_t, record) += word;
    return OK;
}

static void know_steps(Digester *d, const TapeView *t) {
    for (int32_t i = 0; i < t->step_count; i++) {
        size_t size;
        const char *text = step_at(t, i, &size);
        d->steps[i] = hash_bytes(text, size);
        d->step_kinds[i] = size && text[0] == '\x1f' && !(size > 1 && text[1] == '\x1f');
        if (size == 7 && !memcmp(text, "\x1ftext()", 7)) d->step_kinds[i] = 2;
    }
}

/* Finds where a value stands. */
static Site site_of(Digester *d, const TapeView *t, int32_t i) {
    int32_t parent = ((const int32_t *)t->parents.buf)[i], name = ((const int32_t *)t->names.buf)[i];
    if (parent < 0) return (Site){0x5441535341524F4EULL, 0x5441535341524F4EULL, -1, 0, 0};
    const Site *above = &d->sites[parent];
    if (name < 0) {
        uint64_t at = mix(above->elements, (uint64_t)++d->positions[parent]);
        return (Site){at, at, above->record, above->is_markup, 0};
    }
    if (d->step_kinds[name] == 2) return (Site){above->own, above->own, above->record, 1, 0};
    uint64_t at = mix(above->own, d->steps[name]);
    if (!d->step_kinds[name]) return (Site){at, at, above->record, 0, 0};
    return (Site){mix(at, 1), at, above->record, 1, 0};
}

static int digest_value(Digester *d, const TapeView *t, int32_t i, int kind) {
    const Site *s = &d->sites[i];
    int64_t value = ((const int64_t *)t->values.buf)[i];
    size_t size;
    const char *text;
    switch (kind) {
        case K_NULL: return d->exact ? add_word(d, s->record, mix(s->own, tag(D_NULL))) : OK;
        case K_BOOLEAN: return add_word(d, s->record, mix(s->own, (uint64_t)(value != 0) + tag(D_BOOLEAN)));
        case K_INTEGER: {
            if (!d->exact) return add_word(d, s->record, mix(s->own, integer_word(value, &d->digits) + tag(D_NUMBER)));
            return add_word(d, s->record, mix(s->own, mixed_up((uint64_t)value) + tag(D_NUMBER)));
        }
        case K_LONG_INTEGER: case K_FRACTION: {
            text = text_at(t, i, &size);
            uint64_t word = d->exact ? hash_bytes(text, size) : number_word(text, size, &d->digits);
            return add_word(d, s->record, mix(s->own, word + tag(D_NUMBER)));
        }
        case K_TEXT:
            text = text_at(t, i, &size);
            if (!size && s->is_markup && !d->exact) return OK;
            return add_word(d, s->record, mix(s->own, hash_bytes(text, size) + tag(D_TEXT)));
    }
    return OK;
}

static int digest_tape(Digester *d, const TapeView *t) {
    const uint8_t *kinds = t->kinds.buf;
    const int32_t *names = t->names.buf, *parents = t->parents.buf;
    int32_t records = 0;
    know_steps(d, t);
    for (int32_t i = 0; i < t->count; i++) {
        int kind = kinds[i];
        int32_t parent = parents[i];
        d->sites[i] = (Site){0};
        if (kind == M_RAW) continue;
        if (kind == M_ORDER) {
            size_t size;
            const char *text = text_at(t, i, &size);
            const Site *s = &d->sites[parent];
            if (d->exact) add_word(d, s->record, mix(s->own, hash_bytes(text, size) + tag(D_ORDER)));
            continue;
        }
        d->sites[i] = site_of(d, t, i);
        if (parent < 0) {
            d->sites[i].record = records++;
            if (put_i64(&d->sums, 0)) return NO_MEMORY;
        } else if (kind < KINDS) d->sites[parent].is_filled = 1;
        if (parent >= 0 && names[i] < 0 && !d->sites[i].is_markup)
            add_word(d, d->sites[i].record, mix(d->sites[i].own, tag(D_ELEMENT)));
        if (digest_value(d, t, i, kind)) return NO_MEMORY;
    }
    for (int32_t i = 0; d->exact && i < t->count; i++)
        if ((kinds[i] == K_OBJECT || kinds[i] == K_ARRAY) && !d->sites[i].is_filled)
            add_word(d, d->sites[i].record, mix(d->sites[i].own, tag(kinds[i] == K_OBJECT ? D_OBJECT : D_ARRAY)));
    return OK;
}

/* digest(tape, exact): a word for each record, as bytes. */
static PyObject *py_digest(PyObject *self, PyObject *args) {
    PyObject *tuple;
    Digester d = {0};
    (void)self;
    if (!PyArg_ParseTuple(args, "O!p", &PyTuple_Type, &tuple, &d.exact)) return NULL;
    TapeView t;
    if (view_tape(tuple, &t)) return NULL;
    d.sites = malloc(((size_t)t.count + 1) * sizeof(Site));
    d.positions = calloc((size_t)t.count + 1, sizeof(int32_t));
    d.steps = malloc(((size_t)t.step_count + 1) * sizeof(uint64_t));
    d.step_kinds = malloc((size_t)t.step_count + 1);
    int status = d.sites && d.positions && d.steps && d.step_kinds ? OK : NO_MEMORY;
    Py_BEGIN_ALLOW_THREADS
    if (!status) status = digest_tape(&d, &t);
    Py_END_ALLOW_THREADS
    PyObject *made = status ? PyErr_NoMemory() : bytes_of(&d.sums);
    free(d.sites); free(d.positions); free(d.steps); free(d.step_kinds); free(d.sums.at); free(d.digits.at);
    release_tape(&t);
    return made;
}
