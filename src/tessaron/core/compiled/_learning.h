/* Learning: the classes of all tapes so far, with what was counted of each; see learning.py.
 *
 * A class is a kind of place: it follows from the class of the value around and the name. Where an object has very
 * many names their classes become one, that of its entries, before they multiply; the names are still counted.
 */

enum { MOST_NAMES = 5000, MEMBER_LIMIT = 256, WIDEST = 16, MANY_CLASSES = 8192, FEWER = 8, MOST_READINGS = 64,
       SURE_DIGITS = 15, EXPONENT_LETTERS = 5, OUT_OF_REACH = 1000000, SEVERAL_NAMES = -3 };

typedef struct { uint64_t code; int64_t count; } Count;

typedef struct {
    int64_t count, whole_digits, least_scale, most_scale, trailing_zeros, negative_zeros, lossy_doubles, whole_points,
        exponents;
} Digits;

typedef struct {
    int32_t moved;                      /* the class that took it over; -1 */
    int32_t name;
    int32_t owner;                      /* of entries: their dictionary */
    int32_t element, entry, key, order; /* the classes below that are no members; -1 */
    int32_t first, last, next;          /* members, in the order of their first sight */
    int32_t member_count, name_count, first_name, passed_names;
    uint8_t role, is_dictionary, has_too_many, keeps_members, has_integers;
    int64_t row_count, counts[KINDS], position_sum, least, most, longest, empty;
    Digits digits;
    Count *readings;
    int32_t reading_count, reading_room;
} Class;

/* How often a name was met: in a dictionary, or where nothing is wanted. */
typedef struct { int32_t class, name, next; int64_t count; } Met;

typedef struct { uint64_t key; int32_t value; } Slot;
typedef struct { Slot *at; int32_t count, room; } Table;

typedef struct {
    PyObject_HEAD
    Class *classes;
    int32_t count, room, live, limit;
    Table members, met_names, passed_names;
    Buffer met, passed;                 /* of Met */
    Names names;
    Buffer pairs;                       /* classes to be merged: the one that stays, the one that goes */
    Buffer unsure;                      /* number texts that have to be looked at: class, place on the tape */
} Learner;

/* ---- tables ----------------------------------------------------------------------------------------- */

static inline uint64_t key_of(int32_t class, int32_t name) { return ((uint64_t)(uint32_t)class << 32 | (uint32_t)(name + 8)) + 1; }

static inline int32_t spread(uint64_t key, int32_t room) {
    key *= 0x9E3779B97F4A7C15ULL;
    return (int32_t)((key ^ key >> 32) & (uint64_t)(room - 1));
}

/* Returns the slot of a key, or the free one where it belongs; NULL without memory. */
static inline Slot *slot_of(Table *t, uint64_t key) {
    if (2 * (t->count + 1) > t->room) {
        if (t->room > INT32_MAX / 4) return NULL;
        int32_t room = t->room ? t->room * 2 : 64;
        Slot *slots = calloc((size_t)room, sizeof(Slot));
        if (!slots) return NULL;
        for (int32_t i = 0; i < t->room; i++) {
            if (!t->at[i].key) continue;
            int32_t at = spread(t->at[i].key, room);
            while (slots[at].key) at = (at + 1) & (room - 1);
            slots[at] = t->at[i];
        }
        free(t->at);
        t->at = slots;
        t->room = room;
    }
    int32_t at = spread(key, t->room);
    while (t->at[at].key && t->at[at].key != key) at = (at + 1) & (t->room - 1);
    return &t->at[at];
}

static inline void fill_slot(Table *t, Slot *slot, uint64_t key, int32_t value) {
    t->count += slot->key == 0;
    *slot = (Slot){key, value};
}

/* ---- classes ---------------------------------------------------------------------------------------- */

static inline int32_t current(Learner *l, int32_t class) {
    while (l->classes[class].moved >= 0) {
        int32_t on = l->classes[class].moved;
        if (l->classes[on].moved >= 0) l->classes[class].moved = l->classes[on].moved;
        class = on;
    }
    return class;
}

static int32_t new_class(Learner *l, int role, int32_t name) {
    if (l->count == l->room) {
        if (l->room > INT32_MAX / 2) return -1;
        int32_t room = l->room ? l->room * 2 : 64;
        Class *classes = realloc(l->classes, (size_t)room * sizeof(Class));
        if (!classes) return -1;
        l->classes = classes;
        l->room = room;
    }
    Class *c = &l->classes[l->count];
    memset(c, 0, sizeof *c);
    c->moved = c->owner = c->element = c->entry = c->key = c->order = c->first = c->last = c->next = c->first_name = -1;
    c->role = (uint8_t)role;
    c->name = name;
    c->digits.least_scale = OUT_OF_REACH;
    l->live++;
    return l->count++;
}

#define DEFINE_BELOW(function, slot, role)                          \
    static int32_t function(Learner *l, int32_t class) {            \
        if (l->classes[class].slot < 0) {                           \
            int32_t made = new_class(l, role, NO_NAME);             \
            if (made < 0) return -1;                                \
            l->classes[class].slot = made;                          \
        }                                                           \
        return current(l, l->classes[class].slot);                  \
    }
DEFINE_BELOW(element_of, element, R_ELEMENT)
DEFINE_BELOW(order_of, order, R_ORIGIN)
DEFINE_BELOW(key_class_of, key, R_ORIGIN)
DEFINE_BELOW(entry_class_of, entry, R_ENTRY)

static int32_t entry_of(Learner *l, int32_t class) {
    int32_t entry = entry_class_of(l, class);
    if (entry >= 0 && l->classes[entry].owner < 0) l->classes[entry].owner = class;
    return entry;
}

static void append_member(Learner *l, int32_t class, int32_t member) {
    Class *c = &l->classes[class];
    l->classes[member].next = -1;
    if (c->first < 0) c->first = member;
    else l->classes[c->last].next = member;
    c->last = member;
    c->member_count++;
}

static int put_reading(Class *c, uint64_t code, int64_t count) {
    for (int32_t i = 0; i < c->reading_count; i++)
        if (c->readings[i].code == code) { c->readings[i].count += count; return OK; }
    if (c->reading_count == MOST_READINGS) return OK;
    if (c->reading_count == c->reading_room) {
        int32_t room = c->reading_room ? c->reading_room * 2 : 2;
        Count *readings = realloc(c->readings, (size_t)room * sizeof(Count));
        if (!readings) return NO_MEMORY;
        c->readings = readings;
        c->reading_room = room;
    }
    c->readings[c->reading_count++] = (Count){code, count};
    return OK;
}

/* ---- what a class counts ---------------------------------------------------------------------------- */

static inline int see_text(Class *c, const char *text, size_t size, int64_t count, uint64_t code) {
    (void)text;
    c->counts[K_TEXT] += count;
    if (!size) { c->empty += count; return OK; }
    if ((int64_t)size > c->longest) c->longest = (int64_t)size;
    return code ? put_reading(c, code, count) : OK;
}

static inline void see_integer(Class *c, int64_t value) {
    if (!c->has_integers) { c->least = c->most = value; c->has_integers = 1; }
    else if (value < c->least) c->least = value;
    else if (value > c->most) c->most = value;
}

static inline int64_t larger(int64_t a, int64_t b) { return a > b ? a : b; }
static inline int64_t smaller(int64_t a, int64_t b) { return a < b ? a : b; }

/* Takes in a number that is kept as its text (RFC 8259, section 6), as types/number_digits.py does. Returns 1 where it
 * has to be looked at whether a double gives it back. */
static int see_number(Class *c, const char *text, size_t size) {
    const char *s = text, *end = text + size;
    int negative = s < end && *s == '-';
    if (negative) s++;
    const char *from = s;
    int is_zero = 1;
    while (s < end && is_decimal((uint8_t)*s)) is_zero &= *s++ == '0';
    int64_t whole = s - from, scale = 0, unsure = 0;
    if (s < end && *s == '.') {
        const char *point = s++;
        while (s < end && is_decimal((uint8_t)*s)) is_zero &= *s++ == '0';
        scale = s - point - 1;
    }
    Digits *d = &c->digits;
    d->count++;
    d->negative_zeros += negative && is_zero;
    if (s < end) { /* an exponent */
        s++;
        int64_t fraction = scale, shift = 0;
        if (s < end && *s == '+') s++;
        int in_reach = end - s <= EXPONENT_LETTERS, below = s < end && *s == '-';
        if (in_reach) for (const char *e = s + below; e < end; e++) shift = shift * 10 + (*e - '0');
        if (below) shift = -shift;
        scale = larger(fraction - shift, 0);
        whole = larger(whole + shift, 1);
        if (is_zero) {
            whole = 1;
            if (scale > fraction) scale = 0;
        } else if (!in_reach) {
            whole = OUT_OF_REACH;
            d->lossy_doubles++;
        } else unsure = 1;
        d->exponents++;
    } else {
        int trailing = scale > 0 && end[-1] == '0';
        d->trailing_zeros += trailing;
        d->whole_points += trailing && scale == 1;
        unsure = whole + scale > SURE_DIGITS;
    }
    d->whole_digits = larger(d->whole_digits, whole);
    d->least_scale = smaller(d->least_scale, scale);
    d->most_scale = larger(d->most_scale, scale);
    return (int)unsure;
}

static int absorb_counts(Learner *l, int32_t into, int32_t from) {
    Class *c = &l->classes[into], *o = &l->classes[from];
    c->row_count += o->row_count;
    for (int i = 0; i < KINDS; i++) c->counts[i] += o->counts[i];
    if (c->role == R_MEMBER) c->position_sum += o->position_sum;
    if (o->has_integers) { see_integer(c, o->least); see_integer(c, o->most); }
    c->longest = larger(c->longest, o->longest);
    c->empty += o->empty;
    for (int32_t i = 0; i < o->reading_count; i++)
        if (put_reading(c, o->readings[i].code, o->readings[i].count)) return NO_MEMORY;
    Digits *d = &c->digits, *e = &o->digits;
    d->count += e->count;
    d->whole_digits = larger(d->whole_digits, e->whole_digits);
    d->least_scale = smaller(d->least_scale, e->least_scale);
    d->most_scale = larger(d->most_scale, e->most_scale);
    d->trailing_zeros += e->trailing_zeros;
    d->negative_zeros += e->negative_zeros;
    d->lossy_doubles += e->lossy_doubles;
    d->whole_points += e->whole_points;
    d->exponents += e->exponents;
    free(o->readings);
    o->readings = NULL;
    o->reading_count = o->reading_room = 0;
    return OK;
}

/* ---- names that are data ---------------------------------------------------------------------------- */

/* Says whether a further name makes an object one of very many names. Only an object that itself has most of the
 * names may add to them beyond the limit: it is a wide record. Where there are very many classes, names are data
 * somewhere: then objects are full much earlier. */
static int is_full(const Learner *l, const Class *c, int32_t own_names) {
    if (c->keeps_members) return 0;
    if (l->live >= MANY_CLASSES && c->member_count >= l->limit / FEWER) return 1;
    if (c->member_count < l->limit) return 0;
    return c->member_count / WIDEST >= l->limit || 2 * own_names < c->member_count;
}

static int count_name(Learner *l, int32_t class, int32_t name, int64_t count) {
    Class *c = &l->classes[class];
    if (c->has_too_many) return OK;
    uint64_t key = key_of(class, name);
    Slot *slot = slot_of(&l->met_names, key);
    if (!slot) return NO_MEMORY;
    if (slot->key) {
        AT(l->met, Met, slot->value).count += count;
        return OK;
    }
    if (c->name_count == MOST_NAMES) {
        c->has_too_many = 1;
        return OK;
    }
    Met met = {class, name, c->first_name, count};
    fill_slot(&l->met_names, slot, key, COUNT(l->met, Met));
    c->first_name = COUNT(l->met, Met);
    c->name_count++;
    return put_bytes(&l->met, &met, sizeof met);
}

static inline const char *kept_name(const char *name, size_t *size) {
    int is_markup = *size && name[0] == '\x1f' && !(*size > 1 && name[1] == '\x1f');
    *size -= (size_t)is_markup;
    return name + is_markup;
}

static int64_t occurrences(const Class *c) {
    int64_t sum = 0;
    for (int i = 0; i < KINDS; i++) sum += c->counts[i];
    return sum;
}

static int to_merge(Learner *l, int32_t into, int32_t from) {
    return put_i32(&l->pairs, into) || put_i32(&l->pairs, from) ? NO_MEMORY : OK;
}

/* Counts all that a member has seen as entries of the dictionary whose entries it is merged with. */
static int count_as_entries(Learner *l, int32_t entry, int32_t member) {
    int32_t key = key_class_of(l, entry), name = l->classes[member].name;
    if (key < 0) return NO_MEMORY;
    int64_t count = occurrences(&l->classes[member]);
    l->classes[entry].row_count += count;
    size_t size = (size_t)l->names.at[name].size;
    const char *text = kept_name(name_text(&l->names, name), &size);
    if (count && see_text(&l->classes[key], text, size, count, reading_of(text, size))) return NO_MEMORY;
    return count_name(l, current(l, l->classes[entry].owner), name, count);
}

/* Lets a member be one of the entries of its dictionary; the two classes are to be merged then. */
static int member_to_entry(Learner *l, int32_t dictionary, int32_t member) {
    int32_t entry = entry_of(l, dictionary);
    return entry < 0 || to_merge(l, entry, member) ? NO_MEMORY : OK;
}

static int become_dictionary(Learner *l, int32_t class) {
    if (l->classes[class].is_dictionary) return OK;
    l->classes[class].is_dictionary = 1;
    int32_t member = l->classes[class].first;
    l->classes[class].first = l->classes[class].last = -1;
    l->classes[class].member_count = 0;
    for (int32_t next; member >= 0; member = next) {
        next = l->classes[member].next;
        if (member_to_entry(l, class, member)) return NO_MEMORY;
    }
    return entry_of(l, class) < 0 ? NO_MEMORY : OK;
}

static int absorb_members(Learner *l, int32_t into, int32_t from) {
    int32_t own_names = l->classes[from].member_count, member = l->classes[from].first;
    for (int32_t next; member >= 0; member = next) {
        next = l->classes[member].next;
        Class *c = &l->classes[into];
        int32_t name = l->classes[member].name;
        if (!c->is_dictionary) {
            uint64_t key = key_of(into, name);
            Slot *slot = slot_of(&l->members, key);
            if (!slot) return NO_MEMORY;
            if (slot->key) {
                if (to_merge(l, current(l, slot->value), member)) return NO_MEMORY;
                continue;
            }
            if (!is_full(l, c, own_names)) {
                fill_slot(&l->members, slot, key, member);
                append_member(l, into, member);
                continue;
            }
            if (become_dictionary(l, into)) return NO_MEMORY;
        }
        if (member_to_entry(l, into, member)) return NO_MEMORY;
    }
    return OK;
}

static int absorb_names(Learner *l, int32_t into, int32_t from) {
    if (become_dictionary(l, into)) return NO_MEMORY;
    for (int32_t at = l->classes[from].first_name; at >= 0; at = AT(l->met, Met, at).next) {
        Met met = AT(l->met, Met, at);
        if (count_name(l, into, met.name, met.count)) return NO_MEMORY;
    }
    l->classes[into].has_too_many |= l->classes[from].has_too_many;
    return OK;
}

static int absorb_slot(Learner *l, int32_t into, int32_t from, int32_t (*below)(Learner *, int32_t), int32_t old) {
    if (old < 0) return OK;
    int32_t made = below(l, into);
    (void)from;
    return made < 0 ? NO_MEMORY : to_merge(l, made, old);
}

/* Merges all pairs of classes that wait for it. */
static int merge_waiting(Learner *l) {
    while (l->pairs.used) {
        l->pairs.used -= 2 * sizeof(int32_t);
        int32_t *pair = (int32_t *)(l->pairs.at + l->pairs.used);
        int32_t into = current(l, pair[0]), from = current(l, pair[1]);
        if (into == from) continue;
        int becomes_entries = l->classes[into].role == R_ENTRY && l->classes[from].role == R_MEMBER;
        if (becomes_entries && count_as_entries(l, into, from)) return NO_MEMORY;
        if (absorb_counts(l, into, from)) return NO_MEMORY;
        l->classes[from].moved = into;
        l->live--;
        Class old = l->classes[from];
        if (absorb_slot(l, into, from, element_of, old.element) || absorb_slot(l, into, from, order_of, old.order) ||
            absorb_slot(l, into, from, key_class_of, old.key)) return NO_MEMORY;
        if (old.is_dictionary && (absorb_names(l, into, from) || absorb_slot(l, into, from, entry_of, old.entry)))
            return NO_MEMORY;
        if (absorb_members(l, into, from)) return NO_MEMORY;
    }
    return OK;
}

/* ---- one tape --------------------------------------------------------------------------------------- */

typedef struct {
    Py_buffer kinds, names, parents, values, data, step_sizes, step_data;
    int32_t count, step_count;
    size_t *steps;       /* where each step begins in `step_data`, and where the last ends */
} TapeView;

static void release_tape(TapeView *t) {
    Py_buffer *buffers[] = {&t->kinds, &t->names, &t->parents, &t->values, &t->data, &t->step_sizes, &t->step_data};
    for (size_t i = 0; i < sizeof(buffers) / sizeof(*buffers); i++) PyBuffer_Release(buffers[i]);
    free(t->steps);
}

/* Looks at the arrays of a tape, and checks that no number in them leads outside. */
static int view_tape(PyObject *tuple, TapeView *t) {
    memset(t, 0, sizeof *t);
    if (!PyArg_ParseTuple(tuple, "y*y*y*y*y*y*y*", &t->kinds, &t->names, &t->parents, &t->values, &t->data,
                          &t->step_sizes, &t->step_data)) return -1;
    Py_ssize_t count = t->kinds.len, steps = t->step_sizes.len / 8;
    int fits = count <= INT32_MAX && steps <= INT32_MAX && t->names.len == 4 * count && t->parents.len == 4 * count &&
               t->values.len == 8 * count;
    t->count = (int32_t)count;
    t->step_count = (int32_t)steps;
    t->steps = malloc(((size_t)steps + 1) * sizeof(size_t));
    if (!t->steps) { release_tape(t); PyErr_NoMemory(); return -1; }
    const int64_t *sizes = t->step_sizes.buf;
    size_t at = 0;
    for (Py_ssize_t i = 0; i < steps; i++) {
        t->steps[i] = at;
        fits &= sizes[i] >= 0 && sizes[i] <= INT32_MAX;
        at += fits ? (size_t)sizes[i] : 0;
    }
    t->steps[steps] = at;
    fits &= at <= (size_t)t->step_data.len;
    const uint8_t *kinds = t->kinds.buf;
    const int32_t *names = t->names.buf, *parents = t->parents.buf;
    const uint64_t *values = t->values.buf;
    for (int32_t i = 0; fits && i < t->count; i++) {
        fits &= names[i] < t->step_count && names[i] >= -1 && parents[i] < i && parents[i] >= -1;
        if (kinds[i] >= K_LONG_INTEGER && kinds[i] != K_OBJECT && kinds[i] != K_ARRAY && kinds[i] != M_PASSED &&
            kinds[i] != M_HOLE)
            fits &= (values[i] & UINT32_MAX) + (values[i] >> 32) <= (size_t)t->data.len;
        fits &= kinds[i] <= M_ORDER && (parents[i] < 0 || (kinds[i] != M_RAW && kinds[i] != M_ORDER) || names[i] < 0);
        fits &= parents[i] >= 0 || (kinds[i] != M_RAW && kinds[i] != M_ORDER);
    }
    if (!fits) { release_tape(t); PyErr_SetString(PyExc_ValueError, "this is no tape"); return -1; }
    return 0;
}

static inline const char *text_at(const TapeView *t, int32_t i, size_t *size) {
    uint64_t value = ((const uint64_t *)t->values.buf)[i];
    *size = (size_t)(value >> 32);
    return (const char *)t->data.buf + (value & UINT32_MAX);
}

static inline const char *step_at(const TapeView *t, int32_t step, size_t *size) {
    *size = t->steps[step + 1] - t->steps[step];
    return (const char *)t->step_data.buf + t->steps[step];
}

/* What is known of the names of one tape, and of its values. */
typedef struct { int32_t *classes, *positions, *numbers; uint64_t *codes; } Scratch;

static int32_t number_of_step(Learner *l, const TapeView *t, Scratch *s, int32_t step) {
    if (s->numbers[step] < 0) {
        size_t size;
        const char *text = step_at(t, step, &size);
        s->numbers[step] = intern(&l->names, text, size);
    }
    return s->numbers[step];
}

/* Counts a value that was passed over. */
static int count_passed(Learner *l, const TapeView *t, Scratch *s, int32_t class, int32_t step, int64_t count) {
    int32_t name = class < 0 ? -2 : step;
    if (class < 0) class = 0;
    if (step >= 0 && l->classes[class].passed_names >= MEMBER_LIMIT) name = SEVERAL_NAMES;
    else if (step >= 0 && (name = number_of_step(l, t, s, step)) < 0) return NO_MEMORY;
    uint64_t key = key_of(class, name);
    Slot *slot = slot_of(&l->passed_names, key);
    if (!slot) return NO_MEMORY;
    if (slot->key) { AT(l->passed, Met, slot->value).count += count; return OK; }
    Met met = {class, name, -1, count};
    fill_slot(&l->passed_names, slot, key, COUNT(l->passed, Met));
    l->classes[class].passed_names += step >= 0;
    return put_bytes(&l->passed, &met, sizeof met);
}

/* Returns the class of a member, a new one if need be; -1 without memory. */
static int32_t class_of_member(Learner *l, const TapeView *t, Scratch *s, int32_t above, int32_t step, int32_t position) {
    if (!l->classes[above].is_dictionary) {
        int32_t name = number_of_step(l, t, s, step);
        if (name < 0) return -1;
        uint64_t key = key_of(above, name);
        Slot *slot = slot_of(&l->members, key);
        if (!slot) return -1;
        if (slot->key) return current(l, slot->value);
        if (!is_full(l, &l->classes[above], position)) {
            int32_t made = new_class(l, R_MEMBER, name);
            if (made < 0) return -1;
            fill_slot(&l->members, slot, key, made);
            append_member(l, above, made);
            return made;
        }
        if (become_dictionary(l, above) || merge_waiting(l)) return -1;
        above = current(l, above);
    }
    int32_t entry = entry_of(l, above), key = entry < 0 ? -1 : key_class_of(l, entry);
    if (key < 0) return -1;
    size_t size;
    const char *text = step_at(t, step, &size);
    text = kept_name(text, &size);
    if (s->codes[step] == UINT64_MAX) s->codes[step] = reading_of(text, size);
    l->classes[entry].row_count++;
    if (see_text(&l->classes[key], text, size, 1, s->codes[step])) return -1;
    if (!l->classes[above].has_too_many) {
        int32_t name = number_of_step(l, t, s, step);
        if (name < 0 || count_name(l, above, name, 1)) return -1;
    }
    return entry;
}

static int learn_tape(Learner *l, const TapeView *t, Scratch *s) {
    const uint8_t *kinds = t->kinds.buf;
    const int32_t *names = t->names.buf, *parents = t->parents.buf;
    const int64_t *values = t->values.buf;
    for (int32_t i = 0; i < t->count; i++) {
        int kind = kinds[i];
        int32_t parent = parents[i], class = 0, position = 0;
        s->classes[i] = -1;
        if (kind == M_RAW) continue;
        int32_t above = parent < 0 ? -1 : s->classes[parent];
        if (parent >= 0 && above < 0) continue; /* inside of what has no class: a hole */
        if (above >= 0) above = current(l, above);
        size_t size;
        if (kind == M_ORDER) {
            const char *text = text_at(t, i, &size);
            int32_t order = order_of(l, above);
            if (order < 0 || see_text(&l->classes[order], text, size, 1, reading_of(text, size))) return NO_MEMORY;
            continue;
        }
        if (parent < 0) l->classes[0].row_count++;
        else if (names[i] < 0) {
            class = element_of(l, above);
            if (class < 0) return NO_MEMORY;
            l->classes[class].row_count++;
        } else position = s->positions[parent]++;
        if (kind == M_PASSED) {
            if (count_passed(l, t, s, above, names[i], 1)) return NO_MEMORY;
            continue;
        }
        if (kind == M_HOLE) continue;
        if (parent >= 0 && names[i] >= 0) {
            class = class_of_member(l, t, s, above, names[i], position);
            if (class < 0) return NO_MEMORY;
        }
        s->classes[i] = class;
        Class *c = &l->classes[class];
        if (c->role == R_MEMBER) c->position_sum += position;
        if (kind == K_TEXT) {
            const char *text = text_at(t, i, &size);
            if (see_text(c, text, size, 1, reading_of(text, size))) return NO_MEMORY;
            continue;
        }
        c->counts[kind]++;
        if (kind == K_INTEGER) see_integer(c, values[i]);
        else if (kind == K_LONG_INTEGER || kind == K_FRACTION) {
            const char *text = text_at(t, i, &size);
            if (see_number(c, text, size) && (put_i32(&l->unsure, class) || put_i32(&l->unsure, i))) return NO_MEMORY;
        } else if (kind == K_ARRAY && element_of(l, class) < 0) return NO_MEMORY;
    }
    return OK;
}

/* learn(tape): takes in a tape. Returns the number texts of which it has to be looked at whether a double gives them
 * back, as pairs: class, place on the tape. */
static PyObject *learner_learn(Learner *l, PyObject *tuple) {
    TapeView t;
    if (view_tape(tuple, &t)) return NULL;
    Scratch s = {malloc((size_t)t.count * 4 + 4), calloc((size_t)t.count + 1, 4), malloc((size_t)t.step_count * 4 + 4),
                 malloc((size_t)t.step_count * 8 + 8)};
    int status = s.classes && s.positions && s.numbers && s.codes ? OK : NO_MEMORY;
    l->unsure.used = 0;
    Py_BEGIN_ALLOW_THREADS
    if (!status) {
        memset(s.numbers, 0xff, (size_t)t.step_count * 4);
        memset(s.codes, 0xff, (size_t)t.step_count * 8);
        status = learn_tape(l, &t, &s);
    }
    Py_END_ALLOW_THREADS
    free(s.classes); free(s.positions); free(s.numbers); free(s.codes);
    release_tape(&t);
    return status ? PyErr_NoMemory() : bytes_of(&l->unsure);
}

/* add_lossy(classes, counts): takes in how many number texts no double gives back. */
static PyObject *learner_add_lossy(Learner *l, PyObject *args) {
    Py_buffer classes, counts;
    if (!PyArg_ParseTuple(args, "y*y*", &classes, &counts)) return NULL;
    int fits = classes.len / 4 == counts.len / 8;
    for (Py_ssize_t i = 0; fits && i < classes.len / 4; i++) {
        int32_t class = ((int32_t *)classes.buf)[i];
        if (class < 0 || class >= l->count) { fits = 0; break; }
        l->classes[current(l, class)].digits.lossy_doubles += ((int64_t *)counts.buf)[i];
    }
    PyBuffer_Release(&classes);
    PyBuffer_Release(&counts);
    if (!fits) { PyErr_SetString(PyExc_ValueError, "these are no classes"); return NULL; }
    Py_RETURN_NONE;
}

/* seed(path, is_dictionary): settles whether the objects at a path are dictionaries, before any tape. Steps are
 * names, None for elements, True for entries. */
static PyObject *learner_seed(Learner *l, PyObject *args) {
    PyObject *path;
    int is_dictionary;
    if (!PyArg_ParseTuple(args, "O!p", &PyTuple_Type, &path, &is_dictionary)) return NULL;
    int32_t class = 0;
    for (Py_ssize_t i = 0; class >= 0 && i < PyTuple_GET_SIZE(path); i++) {
        PyObject *step = PyTuple_GET_ITEM(path, i);
        if (step == Py_None) { class = element_of(l, class); continue; }
        if (step == Py_True) {
            if (become_dictionary(l, class) || merge_waiting(l)) { class = -1; break; }
            class = entry_of(l, class);
            continue;
        }
        Py_ssize_t size;
        const char *text = PyUnicode_AsUTF8AndSize(step, &size);
        if (!text) return NULL;
        int32_t name = intern(&l->names, text, (size_t)size);
        Slot *slot = name < 0 ? NULL : slot_of(&l->members, key_of(class, name));
        if (!slot) { class = -1; break; }
        if (slot->key) { class = current(l, slot->value); continue; }
        int32_t made = new_class(l, R_MEMBER, name);
        if (made < 0) { class = -1; break; }
        fill_slot(&l->members, slot, key_of(class, name), made);
        append_member(l, class, made);
        class = made;
    }
    if (class < 0) return PyErr_NoMemory();
    l->classes[class].keeps_members = !is_dictionary;
    if (is_dictionary) {
        if (become_dictionary(l, class) || merge_waiting(l)) return PyErr_NoMemory();
        l->classes[class].has_too_many = 1; /* its names need no counting any more */
    }
    Py_RETURN_NONE;
}

/* ---- what was learnt -------------------------------------------------------------------------------- */

static PyObject *name_object(Learner *l, int32_t name) {
    if (name < 0) Py_RETURN_NONE;
    return PyUnicode_DecodeUTF8(name_text(&l->names, name), l->names.at[name].size, NULL);
}

static PyObject *readings_object(const Class *c) {
    PyObject *list = PyList_New(c->reading_count);
    for (int32_t i = 0; list && i < c->reading_count; i++) {
        PyObject *pair = Py_BuildValue("(KL)", (unsigned long long)c->readings[i].code, (long long)c->readings[i].count);
        if (!pair) Py_CLEAR(list);
        else PyList_SET_ITEM(list, i, pair);
    }
    return list;
}

static PyObject *names_object(Learner *l, const Class *c) {
    if (!c->is_dictionary || c->has_too_many) Py_RETURN_NONE;
    PyObject *dict = PyDict_New();
    for (int32_t at = c->first_name; dict && at >= 0; at = AT(l->met, Met, at).next) {
        Met *met = &AT(l->met, Met, at);
        PyObject *name = name_object(l, met->name), *count = PyLong_FromLongLong(met->count);
        if (!name || !count || PyDict_SetItem(dict, name, count)) Py_CLEAR(dict);
        Py_XDECREF(name);
        Py_XDECREF(count);
    }
    return dict;
}

static PyObject *class_object(Learner *l, int32_t class, int32_t parent, int role) {
    Class *c = &l->classes[class];
    Digits *d = &c->digits;
    PyObject *name = name_object(l, role == R_MEMBER ? c->name : NO_NAME);
    PyObject *readings = readings_object(c), *names = names_object(l, c);
    if (!name || !readings || !names) { Py_XDECREF(name); Py_XDECREF(readings); Py_XDECREF(names); return NULL; }
    PyObject *integers = c->has_integers ? Py_BuildValue("(LL)", (long long)c->least, (long long)c->most) : Py_NewRef(Py_None);
    PyObject *digits = d->count ? Py_BuildValue("(LLLLLLLLL)", (long long)d->count, (long long)d->whole_digits,
                                                (long long)d->least_scale, (long long)d->most_scale,
                                                (long long)d->trailing_zeros, (long long)d->negative_zeros,
                                                (long long)d->lossy_doubles, (long long)d->whole_points,
                                                (long long)d->exponents)
                                : Py_NewRef(Py_None);
    PyObject *counts = Py_BuildValue("[LLLLLLLL]", (long long)c->counts[0], (long long)c->counts[1], (long long)c->counts[2],
                                     (long long)c->counts[3], (long long)c->counts[4], (long long)c->counts[5],
                                     (long long)c->counts[6], (long long)c->counts[7]);
    if (!integers || !digits || !counts) {
        Py_XDECREF(name); Py_XDECREF(readings); Py_XDECREF(names);
        Py_XDECREF(integers); Py_XDECREF(digits); Py_XDECREF(counts);
        return NULL;
    }
    return Py_BuildValue("(iiNLNLNNLLNiNi)", (int)parent, role, name, (long long)c->row_count, counts,
                         (long long)c->position_sum, integers, digits, (long long)c->longest, (long long)c->empty,
                         readings, (int)c->is_dictionary, names, (int)c->keeps_members);
}

typedef struct { int32_t class, parent, role; } Exported;
enum { E_KEY = 10, E_ORDER = 11 };

/* export(): all classes, each after the one around it, as tuples (see learning.py), and what was passed over: the
 * number of the class, the name (None: elements, True: the records, False: many names), how many. */
static PyObject *learner_export(Learner *l, PyObject *unused) {
    (void)unused;
    PyObject *list = PyList_New(0), *passed = PyList_New(0);
    Buffer pending = {0};
    int32_t *places = malloc(((size_t)l->count + 1) * sizeof(int32_t));
    Exported top = {0, -1, R_RECORD};
    int failed = !list || !passed || !places || put_bytes(&pending, &top, sizeof top);
    for (int32_t i = 0; places && i < l->count; i++) places[i] = -1;
    while (!failed && pending.used) {
        pending.used -= sizeof(Exported);
        Exported here = *(Exported *)(pending.at + pending.used);
        int32_t class = current(l, here.class), place = (int32_t)PyList_GET_SIZE(list);
        PyObject *made = class_object(l, class, here.parent, here.role);
        failed = !made || PyList_Append(list, made);
        Py_XDECREF(made);
        places[class] = place;
        Class *c = &l->classes[class];
        Exported below[] = {{c->element, place, R_ELEMENT}, {c->entry, place, R_ENTRY}, {c->key, place, E_KEY},
                            {c->order, place, E_ORDER}};
        for (int i = 0; i < 4; i++)
            if (!failed && below[i].class >= 0) failed = put_bytes(&pending, &below[i], sizeof(Exported));
        for (int32_t m = c->first; !failed && m >= 0; m = l->classes[m].next) {
            Exported member = {m, place, R_MEMBER};
            failed = put_bytes(&pending, &member, sizeof member);
        }
    }
    for (int32_t i = 0; !failed && i < COUNT(l->passed, Met); i++) {
        Met *met = &AT(l->passed, Met, i);
        PyObject *name = met->name >= 0    ? name_object(l, met->name)
                         : Py_NewRef(met->name == NO_NAME ? Py_None : met->name == -2 ? Py_True : Py_False);
        PyObject *made = name ? Py_BuildValue("(iNL)", (int)places[current(l, met->class)], name, (long long)met->count) : NULL;
        failed = !made || PyList_Append(passed, made);
        Py_XDECREF(made);
    }
    free(pending.at);
    free(places);
    if (failed) {
        Py_XDECREF(list);
        Py_XDECREF(passed);
        return PyErr_Occurred() ? NULL : PyErr_NoMemory();
    }
    return Py_BuildValue("(NN)", list, passed);
}

static int learner_init(Learner *l, PyObject *args, PyObject *kwargs) {
    (void)kwargs;
    if (!PyArg_ParseTuple(args, "i", &l->limit)) return -1;
    if (l->count || new_class(l, R_RECORD, NO_NAME) >= 0) return 0;
    PyErr_NoMemory();
    return -1;
}

static void learner_dealloc(Learner *l) {
    for (int32_t i = 0; i < l->count; i++) free(l->classes[i].readings);
    free(l->classes);
    free(l->members.at); free(l->met_names.at); free(l->passed_names.at);
    free(l->met.at); free(l->passed.at); free(l->pairs.at); free(l->unsure.at);
    free_names(&l->names);
    Py_TYPE(l)->tp_free((PyObject *)l);
}

static PyMethodDef learner_methods[] = {
    {"learn", (PyCFunction)learner_learn, METH_VARARGS, "Take in a tape."},
    {"add_lossy", (PyCFunction)learner_add_lossy, METH_VARARGS, "Take in how many numbers no double gives back."},
    {"seed", (PyCFunction)learner_seed, METH_VARARGS, "Settle whether the objects at a path are dictionaries."},
    {"export", (PyCFunction)learner_export, METH_NOARGS, "Return what was learnt."},
    {NULL, NULL, 0, NULL}};

static PyTypeObject learner_type = {
    PyVarObject_HEAD_INIT(NULL, 0).tp_name = "tessaron.core.tape._passes.Learner",
    .tp_basicsize = sizeof(Learner),
    .tp_dealloc = (destructor)learner_dealloc,
    .tp_flags = Py_TPFLAGS_DEFAULT,
    .tp_doc = "The classes of all tapes so far.",
    .tp_methods = learner_methods,
    .tp_init = (initproc)learner_init,
    .tp_new = PyType_GenericNew};
