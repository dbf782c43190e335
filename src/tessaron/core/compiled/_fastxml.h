/* The compiled part of the XML kernel: records that lxml has found to be well-formed -> tape.
 *
 * It does what XmlBuilder of xml_kernel.py does, and the same tests run on both. It only knows elements,
 * attributes, text, CDATA, comments and the references that every document has; whatever else there is makes it
 * give up the chunk (BAD), which is then read in Python.
 * A record is first a small tree, as only its end tells what repeats, and is then walked like in Python.
 */

typedef struct { const char *raw; int32_t raw_size, step; uint64_t hash; int32_t stamp, group; } XmlName;
typedef struct { const char *prefix, *spelled; int32_t prefix_size, spelled_size; } XmlPrefix;
typedef struct { int32_t name, first, last, next, next_same, attributes, attribute_count, pieces, last_piece, elements; } XmlElement;
typedef struct { int32_t name; size_t from, size; } XmlAttribute;
typedef struct { size_t from, size; int32_t next; } XmlPiece;
typedef struct { int32_t first, last, count, name; } XmlGroup;
/* An element that is being walked: its place on the tape, its groups, and which of their elements comes next. */
typedef struct { int32_t element, index, groups, group, next, parent; size_t groups_end; } XmlOpen;

typedef struct {
    Parser *p;
    XmlName *names; int32_t name_count, name_room, *table, table_room;
    XmlPrefix *prefixes; int32_t prefix_count;
    const char *nil; int32_t nil_size;       /* how xsi:nil is written here; size 0 if it is not declared */
    Buffer elements, attributes, pieces, chars, groups, pending, open, whole, spelled;
    int32_t stamp, trims, text_step;
    int64_t comments, instructions;
} Xml;

static inline int is_space(uint8_t c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t'; }

/* Spells the name behind the letter of XML: prefix as in paths, `@` for attributes. Returns BAD for a prefix that
 * is not known. */
static int spell_name(Xml *x, XmlName *n, const char *raw, int32_t size, int is_attribute) {
    const char *colon = memchr(raw, ':', (size_t)size);
    int32_t prefix_size = colon ? (int32_t)(colon - raw) : 0;
    const char *spelled = "";
    int32_t spelled_size = 0;
    if (prefix_size == 3 && !memcmp(raw, "xml", 3)) { spelled = "xml"; spelled_size = 3; }
    else if (prefix_size || !is_attribute) {
        int found = !prefix_size;
        for (int32_t i = 0; i < x->prefix_count; i++)
            if (x->prefixes[i].prefix_size == prefix_size && !memcmp(x->prefixes[i].prefix, raw, (size_t)prefix_size)) {
                spelled = x->prefixes[i].spelled;
                spelled_size = x->prefixes[i].spelled_size;
                found = 1;
            }
        if (!found) return BAD;
    }
    const char *local = colon ? colon + 1 : raw;
    int32_t local_size = size - (int32_t)(local - raw);
    x->spelled.used = 0;
    if (put_bytes(&x->spelled, "\x1f@", is_attribute ? 2 : 1) || put_bytes(&x->spelled, spelled, (size_t)spelled_size) ||
        put_bytes(&x->spelled, ":", spelled_size ? 1 : 0) || put_bytes(&x->spelled, local, (size_t)local_size))
        return NO_MEMORY;
    n->step = intern(&x->p->tape.steps, x->spelled.at, x->spelled.used);
    if (n->step < 0) return NO_MEMORY;
    return OK;
}

/* Returns the number of a name as it is written; negative status - 10 if that fails. */
static int32_t intern_name(Xml *x, const char *raw, int32_t size, int is_attribute) {
    uint64_t hash = hash_of(raw, (size_t)size) * 2 + (uint64_t)is_attribute;
    if (2 * (x->name_count + 1) > x->table_room) {
        int32_t room = x->table_room ? x->table_room * 2 : 64;
        int32_t *table = malloc((size_t)room * sizeof(int32_t));
        if (!table) return -10 - NO_MEMORY;
        memset(table, 0xff, (size_t)room * sizeof(int32_t));
        for (int32_t i = 0; i < x->name_count; i++) {
            int32_t at = (int32_t)(x->names[i].hash & (uint64_t)(room - 1));
            while (table[at] >= 0) at = (at + 1) & (room - 1);
            table[at] = i;
        }
        free(x->table);
        x->table = table;
        x->table_room = room;
    }
    int32_t at = (int32_t)(hash & (uint64_t)(x->table_room - 1));
    for (; x->table[at] >= 0; at = (at + 1) & (x->table_room - 1)) {
        XmlName *n = &x->names[x->table[at]];
        if (n->hash == hash && n->raw_size == size && !memcmp(n->raw, raw, (size_t)size)) return x->table[at];
    }
    if (x->name_count == x->name_room) {
        int32_t room = x->name_room ? x->name_room * 2 : 64;
        XmlName *names = realloc(x->names, (size_t)room * sizeof(XmlName));
        if (!names) return -10 - NO_MEMORY;
        x->names = names;
        x->name_room = room;
    }
    XmlName *n = &x->names[x->name_count];
    memset(n, 0, sizeof *n);
    n->raw = raw;
    n->raw_size = size;
    n->hash = hash;
    n->stamp = -1;
    int status = spell_name(x, n, raw, size, is_attribute);
    if (status) return -10 - status;
    x->table[at] = x->name_count;
    return x->name_count++;
}

/* Puts a reference that begins at *s (behind `&`) into the characters; BAD for one that is not of every document. */
static int put_reference(Xml *x, const uint8_t **s, const uint8_t *end) {
    const uint8_t *at = *s, *stop = memchr(at, ';', (size_t)(end - at));
    if (!stop) return BAD;
    size_t size = (size_t)(stop - at);
    uint32_t code = 0;
    if (size > 1 && at[0] == '#') {
        int is_hex = at[1] == 'x';
        if (size > 10) return BAD;
        for (const uint8_t *d = at + 1 + is_hex; d < stop; d++) {
            uint32_t digit = *d >= '0' && *d <= '9' ? *d - '0' : *d >= 'a' && *d <= 'f' ? *d - 'a' + 10
                           : *d >= 'A' && *d <= 'F' ? *d - 'A' + 10 : 99;
            if (digit > (is_hex ? 15u : 9u)) return BAD;
            code = code * (is_hex ? 16 : 10) + digit;
        }
        if (!code || code > 0x10FFFF || (code >= 0xD800 && code < 0xE000)) return BAD;
    } else {
        static const struct { const char *name; size_t size; uint8_t code; } known[] = {
            {"lt", 2, '<'}, {"gt", 2, '>'}, {"amp", 3, '&'}, {"quot", 4, '"'}, {"apos", 4, '\''}};
        for (int i = 0; i < 5; i++)
            if (size == known[i].size && !memcmp(at, known[i].name, size)) code = known[i].code;
        if (!code) return BAD;
    }
    *s = stop + 1;
    return put_code(&x->chars, code);
}

/* Puts characters up to `stop`: line ends become \n; in attributes white space becomes spaces (XML 1.0, 3.3.3). */
static int put_characters(Xml *x, const uint8_t *s, const uint8_t *stop, int is_attribute, int has_references) {
    while (s < stop) {
        const uint8_t *from = s;
        while (s < stop && !(*s == '&' && has_references) && *s != '\r' && !(is_attribute && is_space(*s))) s++;
        if (s > from && put_bytes(&x->chars, from, (size_t)(s - from))) return NO_MEMORY;
        if (s >= stop) break;
        if (*s == '&') {
            s++;
            int status = put_reference(x, &s, stop);
            if (status) return status;
        } else {
            int is_return = *s++ == '\r';
            if (is_return && s < stop && *s == '\n') s++;
            if (put_u8(&x->chars, is_attribute ? ' ' : '\n')) return NO_MEMORY;
        }
    }
    return OK;
}

static int add_piece(Xml *x, int32_t element, const uint8_t *s, const uint8_t *stop, int has_references) {
    if (s >= stop) return OK;
    size_t from = x->chars.used;
    int status = put_characters(x, s, stop, 0, has_references);
    if (status) return status;
    XmlPiece piece = {from, x->chars.used - from, -1};
    int32_t index = COUNT(x->pieces, XmlPiece);
    if (put_bytes(&x->pieces, &piece, sizeof piece)) return NO_MEMORY;
    XmlElement *e = &AT(x->elements, XmlElement, element);
    if (e->pieces < 0) e->pieces = index; else AT(x->pieces, XmlPiece, e->last_piece).next = index;
    e->last_piece = index;
    return OK;
}

static const uint8_t *find_bytes(const uint8_t *s, const uint8_t *end, const char *wanted, size_t size) {
    while ((size_t)(end - s) >= size) {
        s = memchr(s, wanted[0], (size_t)(end - s) - size + 1);
        if (!s) return NULL;
        if (!memcmp(s, wanted, size)) return s;
        s++;
    }
    return NULL;
}

/* Reads a start tag at *s (behind `<`) as a new element; *is_empty says whether it ends with `/>`. */
static int read_start_tag(Xml *x, const uint8_t **start, const uint8_t *end, int32_t parent, int32_t *made, int *is_empty) {
    const uint8_t *s = *start, *from = s;
    while (s < end && !is_space(*s) && *s != '>' && *s != '/') s++;
    if (s >= end || s == from) return BAD;
    int32_t name = intern_name(x, (const char *)from, (int32_t)(s - from), 0);
    if (name < 0) return -name - 10;
    XmlElement element = {name, -1, -1, -1, -1, COUNT(x->attributes, XmlAttribute), 0, -1, -1, 0};
    for (;;) {
        while (s < end && is_space(*s)) s++;
        if (s >= end) return BAD;
        if (*s == '>') { s++; *is_empty = 0; break; }
        if (*s == '/') { if (s + 1 >= end || s[1] != '>') return BAD; s += 2; *is_empty = 1; break; }
        from = s;
        while (s < end && !is_space(*s) && *s != '=' && *s != '>') s++;
        XmlAttribute attribute = {intern_name(x, (const char *)from, (int32_t)(s - from), 1), x->chars.used, 0};
        if (attribute.name < 0) return -attribute.name - 10;
        while (s < end && is_space(*s)) s++;
        if (s >= end || *s++ != '=') return BAD;
        while (s < end && is_space(*s)) s++;
        if (s >= end || (*s != '"' && *s != '\'')) return BAD;
        const uint8_t *stop = memchr(s + 1, *s, (size_t)(end - s - 1));
        if (!stop) return BAD;
        int status = put_characters(x, s + 1, stop, 1, 1);
        if (status) return status;
        attribute.size = x->chars.used - attribute.from;
        s = stop + 1;
        if (put_bytes(&x->attributes, &attribute, sizeof attribute)) return NO_MEMORY;
        element.attribute_count++;
    }
    *made = COUNT(x->elements, XmlElement);
    if (put_bytes(&x->elements, &element, sizeof element)) return NO_MEMORY;
    if (parent >= 0) {
        XmlElement *above = &AT(x->elements, XmlElement, parent);
        if (above->first < 0) above->first = *made;
        else AT(x->elements, XmlElement, above->last).next = *made;
        above->last = *made;
        above->elements++;
    }
    *start = s;
    return OK;
}

/* Reads one record at *s into the tree. */
static int read_tree(Xml *x, const uint8_t **start) {
    const uint8_t *s = *start, *end = x->p->end;
    x->elements.used = x->attributes.used = x->pieces.used = x->chars.used = x->open.used = 0;
    int32_t current = -1;
    for (;;) {
        const uint8_t *mark = s < end ? memchr(s, '<', (size_t)(end - s)) : NULL;
        if (!mark || end - mark < 2) return BAD;
        int status;
        if (current >= 0 && (status = add_piece(x, current, s, mark, 1))) return status;
        s = mark + 1;
        if (*s == '/') {
            const uint8_t *stop = memchr(s, '>', (size_t)(end - s));
            if (!stop || current < 0) return BAD;
            s = stop + 1;
            x->open.used -= sizeof(int32_t);
            int32_t depth = COUNT(x->open, int32_t);
            if (!depth) break;
            current = AT(x->open, int32_t, depth - 1);
        } else if (*s == '!') {
            int is_comment = end - s > 2 && s[1] == '-';
            const char *closing = is_comment ? "-->" : "]]>";
            size_t head = is_comment ? 3 : 8;
            if ((size_t)(end - s) < head) return BAD;
            const uint8_t *stop = find_bytes(s + head, end, closing, 3);
            if (!stop || current < 0) return BAD;
            if (is_comment) x->comments++;
            else if ((status = add_piece(x, current, s + head, stop, 0))) return status;
            s = stop + 3;
        } else if (*s == '?') {
            const uint8_t *stop = find_bytes(s, end, "?>", 2);
            if (!stop || current < 0) return BAD;
            x->instructions++;
            s = stop + 2;
        } else {
            int32_t made = -1;
            int is_empty = 0;
            if ((status = read_start_tag(x, &s, end, current, &made, &is_empty))) return status;
            if (!is_empty) {
                if (put_i32(&x->open, made)) return NO_MEMORY;
                current = made;
            } else if (current < 0) break;
        }
    }
    *start = s;
    return OK;
}

/* Gives the text of an element itself: all its pieces, joined. */
static int text_of(Xml *x, const XmlElement *e, const char **bytes, size_t *size) {
    *bytes = "";
    *size = 0;
    if (e->pieces < 0) return OK;
    XmlPiece *piece = &AT(x->pieces, XmlPiece, e->pieces);
    if (piece->next < 0) { *bytes = x->chars.at + piece->from; *size = piece->size; return OK; }
    x->whole.used = 0;
    for (;;) {
        if (put_bytes(&x->whole, x->chars.at + piece->from, piece->size)) return NO_MEMORY;
        if (piece->next < 0) break;
        piece = &AT(x->pieces, XmlPiece, piece->next);
    }
    *bytes = x->whole.at;
    *size = x->whole.used;
    return OK;
}

static int is_blank(const char *bytes, size_t size) {
    for (size_t i = 0; i < size; i++) if (!is_space((uint8_t)bytes[i])) return 0;
    return 1;
}

static void trim(const char **bytes, size_t *size) {
    while (*size && is_space((uint8_t)**bytes)) { (*bytes)++; (*size)--; }
    while (*size && is_space((uint8_t)(*bytes)[*size - 1])) (*size)--;
}

/* Puts a text, as a number if a number gives it back exactly (see number_texts.py). */
static int put_typed(Writer *w, int32_t name, int32_t parent, const char *bytes, size_t size) {
    const char *s = bytes, *end = bytes + size;
    int negative = s < end && *s == '-';
    if (negative) s++;
    const char *digits = s;
    while (s < end && *s >= '0' && *s <= '9') s++;
    size_t whole = (size_t)(s - digits);
    int is_plain = whole && (*digits != '0' || whole == 1);
    if (is_plain && s == end && !(negative && *digits == '0')) {
        uint64_t value = 0;
        int fits = whole <= 19;
        if (fits) {
            for (const char *d = digits; d < end; d++) value = value * 10 + (uint64_t)(*d - '0');
            fits = negative ? value <= (uint64_t)INT64_MAX + 1 : value <= (uint64_t)INT64_MAX;
        }
        if (fits) return put_value(w, K_INTEGER, name, parent, negative ? (int64_t)(~value + 1) : (int64_t)value);
        return put_text(w, K_LONG_INTEGER, name, parent, bytes, size);
    }
    if (is_plain && s < end && *s == '.' && end - s > 1) {
        const char *d = s + 1;
        while (d < end && *d >= '0' && *d <= '9') d++;
        if (d == end) return put_text(w, K_FRACTION, name, parent, bytes, size);
    }
    return put_text(w, K_TEXT, name, parent, bytes, size);
}

static int is_nil_value(const char *bytes, size_t size) {
    trim(&bytes, &size);
    return (size == 4 && !memcmp(bytes, "true", 4)) || (size == 1 && *bytes == '1');
}

static int is_nil(Xml *x, const XmlAttribute *a) {
    XmlName *n = &x->names[a->name];
    return x->nil_size && n->raw_size == x->nil_size && !memcmp(n->raw, x->nil, (size_t)n->raw_size) &&
           is_nil_value(x->chars.at + a->from, a->size);
}

/* Puts one element; where it holds more than text, it waits to be walked at the end of `pending`. */
static int put_element(Xml *x, int32_t name, int32_t parent, int32_t element) {
    XmlElement *e = &AT(x->elements, XmlElement, element);
    Writer *w = &x->p->tape;
    const char *bytes;
    size_t size;
    if (!e->elements && !e->attribute_count) {
        if (text_of(x, e, &bytes, &size)) return NO_MEMORY;
        if (x->trims) trim(&bytes, &size);
        return put_typed(w, name, parent, bytes, size);
    }
    if (!e->elements && e->attribute_count == 1 && e->pieces < 0 &&
        is_nil(x, &AT(x->attributes, XmlAttribute, e->attributes)))
        return put_value(w, K_NULL, name, parent, 0);
    if (put_value(w, K_OBJECT, name, parent, 0)) return NO_MEMORY;
    XmlOpen open = {element, w->count - 1, -1, 0, -1, -1, 0};
    return put_bytes(&x->pending, &open, sizeof open);
}

/* Puts the attributes of an element, and finds what of its elements belongs together. */
static int open_element(Xml *x, XmlOpen *open) {
    XmlElement e = AT(x->elements, XmlElement, open->element);
    int status;
    for (int32_t i = 0; i < e.attribute_count; i++) {
        XmlAttribute *a = &AT(x->attributes, XmlAttribute, e.attributes + i);
        if (is_nil(x, a)) continue;
        status = put_typed(&x->p->tape, x->names[a->name].step, open->index, x->chars.at + a->from, a->size);
        if (status) return status;
    }
    open->groups = COUNT(x->groups, XmlGroup);
    x->stamp++;
    for (int32_t c = e.first; c >= 0; c = AT(x->elements, XmlElement, c).next) {
        XmlName *name = &x->names[AT(x->elements, XmlElement, c).name];
        if (name->stamp != x->stamp) {
            XmlGroup group = {c, c, 1, AT(x->elements, XmlElement, c).name};
            name->stamp = x->stamp;
            name->group = COUNT(x->groups, XmlGroup);
            if (put_bytes(&x->groups, &group, sizeof group)) return NO_MEMORY;
        } else {
            XmlGroup *group = &AT(x->groups, XmlGroup, name->group);
            AT(x->elements, XmlElement, group->last).next_same = c;
            group->last = c;
            group->count++;
        }
    }
    open->group = open->groups;
    open->groups_end = x->groups.used;
    return OK;
}

/* Puts the text of an element beside its attributes and elements, which comes last. */
static int close_element(Xml *x, const XmlOpen *open) {
    XmlElement *e = &AT(x->elements, XmlElement, open->element);
    int nil = 0;
    for (int32_t i = 0; i < e->attribute_count; i++)
        nil |= is_nil(x, &AT(x->attributes, XmlAttribute, e->attributes + i));
    const char *bytes;
    size_t size;
    if (text_of(x, e, &bytes, &size)) return NO_MEMORY;
    if (e->elements && is_blank(bytes, size)) size = 0;
    if (x->trims) trim(&bytes, &size);
    if (!size && !nil) return OK;
    if (x->text_step < 0 && (x->text_step = intern(&x->p->tape.steps, "\x1ftext()", 7)) < 0) return NO_MEMORY;
    if (size) return put_typed(&x->p->tape, x->text_step, open->index, bytes, size);
    return put_value(&x->p->tape, K_NULL, x->text_step, open->index, 0);
}

/* Puts the next element of the one that is walked; *done says whether there is none left. */
static int next_child(Xml *x, size_t at, int *done) {
    XmlOpen *open = (XmlOpen *)(x->pending.at + at);
    int32_t child = open->next, parent = open->parent, name = NO_NAME;
    *done = 0;
    if (child >= 0) open->next = AT(x->elements, XmlElement, child).next_same;
    else {
        if ((size_t)open->group * sizeof(XmlGroup) >= open->groups_end) { *done = 1; return OK; }
        XmlGroup *group = &AT(x->groups, XmlGroup, open->group++);
        child = group->first;
        parent = open->index;
        name = x->names[group->name].step;
        if (group->count > 1) {
            if (put_value(&x->p->tape, K_ARRAY, name, parent, 0)) return NO_MEMORY;
            parent = open->parent = x->p->tape.count - 1;
            open->next = AT(x->elements, XmlElement, child).next_same;
            name = NO_NAME;
        }
    }
    return put_element(x, name, parent, child);
}

static int walk_tree(Xml *x) {
    if (put_value(&x->p->tape, K_OBJECT, NO_NAME, -1, 0)) return NO_MEMORY;
    XmlOpen first = {0, x->p->tape.count - 1, -1, 0, -1, -1, 0};
    x->pending.used = x->groups.used = 0;
    if (put_bytes(&x->pending, &first, sizeof first)) return NO_MEMORY;
    while (x->pending.used) {
        size_t at = x->pending.used - sizeof(XmlOpen);
        XmlOpen *open = (XmlOpen *)(x->pending.at + at);
        int status, done;
        if (open->groups < 0 && (status = open_element(x, open))) return status;
        if ((status = next_child(x, at, &done))) return status;
        if (!done) continue;
        open = (XmlOpen *)(x->pending.at + at);
        if ((status = close_element(x, open))) return status;
        x->groups.used = (size_t)open->groups * sizeof(XmlGroup);
        x->pending.used = at;
    }
    return OK;
}

static int read_xml_records(Xml *x) {
    const uint8_t *s = x->p->text, *end = x->p->end;
    for (;;) {
        while (s < end && is_space(*s)) s++;
        if (s >= end) return OK;
        if (put_i64(&x->p->offsets, s - x->p->text)) return NO_MEMORY;
        int status = read_tree(x, &s);
        if (!status) status = walk_tree(x);
        if (status) return status;
    }
}

static void free_xml(Xml *x) {
    Buffer *buffers[] = {&x->elements, &x->attributes, &x->pieces, &x->chars, &x->groups, &x->pending,
                         &x->open, &x->whole, &x->spelled};
    for (size_t i = 0; i < sizeof(buffers) / sizeof(*buffers); i++) free(buffers[i]->at);
    free(x->names); free(x->table); free(x->prefixes);
}

/* parse_xml(data, prefixes, nil, trims): the tape of the records in `data`, with counts of comments and
 * instructions; None if it has to be read in Python. `prefixes` are pairs: as it is written, as it is spelled. */
static PyObject *py_parse_xml(PyObject *self, PyObject *args) {
    Py_buffer buffer;
    PyObject *prefixes, *made = NULL;
    const char *nil;
    Py_ssize_t nil_size;
    int trims, status;
    if (!PyArg_ParseTuple(args, "y*O!s#i", &buffer, &PyTuple_Type, &prefixes, &nil, &nil_size, &trims)) return NULL;
    Parser p = {0};
    Xml x = {0};
    x.p = &p;
    x.trims = trims;
    x.nil = nil;
    x.nil_size = (int32_t)nil_size;
    p.text = buffer.buf;
    p.end = p.text + buffer.len;
    x.text_step = -1;
    x.prefix_count = (int32_t)PyTuple_GET_SIZE(prefixes);
    x.prefixes = calloc((size_t)x.prefix_count + 1, sizeof(XmlPrefix));
    if (!x.prefixes) { PyErr_NoMemory(); goto done; }
    for (int32_t i = 0; i < x.prefix_count; i++) {
        Py_ssize_t size, spelled_size;
        XmlPrefix *each = &x.prefixes[i];
        if (!PyArg_ParseTuple(PyTuple_GET_ITEM(prefixes, i), "s#s#", &each->prefix, &size, &each->spelled, &spelled_size))
            goto done;
        each->prefix_size = (int32_t)size;
        each->spelled_size = (int32_t)spelled_size;
    }
    Py_BEGIN_ALLOW_THREADS
    status = read_xml_records(&x);
    Py_END_ALLOW_THREADS
    if (status == BAD) { made = Py_None; Py_INCREF(made); }
    else if (status) PyErr_NoMemory();
    else {
        made = tape_of(&p.tape, &p.offsets);
        if (made && (set_item(made, "comments", PyLong_FromLongLong(x.comments)) ||
                     set_item(made, "instructions", PyLong_FromLongLong(x.instructions)))) Py_CLEAR(made);
    }
done:
    free_parser(&p);
    free_xml(&x);
    PyBuffer_Release(&buffer);
    return made;
}
