/* The compiled part of the XML kernel: records that lxml has found to be well-formed -> tape.
 *
 * It does what XmlBuilder of xml_kernel.py does, and the same tests run on both. What it does not
 * know (an entity with markup in it, say) makes it give up the chunk (BAD), which is then read in Python.
 * A record is first a small tree, as only its end tells what repeats, and is then walked like in Python.
 */

#include "_xml_names.h"

#define XML_NAMESPACE "http://www.w3.org/XML/1998/namespace"
#define INSTANCE_NAMESPACE "http://www.w3.org/2001/XMLSchema-instance"
/* So deep elements stand in a record here; what the limit of lxml is, lxml says. */
enum { DEEPEST = 250 };
enum { CLEAN_KEEP, CLEAN_TRIM, CLEAN_COLLAPSE };

typedef struct { int32_t step, first, last, next, next_same, attributes, attribute_count, pieces, last_piece, elements, keeps; } XmlElement;
typedef struct { int32_t step; size_t from, size; } XmlAttribute;
/* A piece of text, with how many elements stand before it. */
typedef struct { size_t from, size; int32_t next, after; } XmlPiece;
typedef struct { int32_t first, last, count, step; } XmlGroup;
/* An element that is being walked: its place on the tape, its groups, and which of their elements comes next. */
typedef struct { int32_t element, index, groups, group, next, parent; size_t groups_end; } XmlOpen;

static int add_piece(Xml *x, int32_t element, const uint8_t *s, const uint8_t *stop, int has_references) {
    if (s >= stop) return OK;
    size_t from = x->chars.used;
    int status = put_characters(x, s, stop, 0, has_references);
    if (status) return status;
    if (x->chars.used == from) return OK;
    XmlPiece piece = {from, x->chars.used - from, -1, AT(x->elements, XmlElement, element).elements};
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

/* Reads the attributes of a start tag at *s, up to behind its end; their names are as written (see raw_number). */
static int read_attributes(Xml *x, const uint8_t **start, const uint8_t *end, int32_t depth, XmlElement *element, int *is_empty) {
    const uint8_t *s = *start;
    for (;;) {
        while (s < end && is_space(*s)) s++;
        if (s >= end) return BAD;
        if (*s == '>') { s++; *is_empty = 0; break; }
        if (*s == '/') { if (s + 1 >= end || s[1] != '>') return BAD; s += 2; *is_empty = 1; break; }
        const uint8_t *from = s;
        while (s < end && !is_space(*s) && *s != '=' && *s != '>') s++;
        XmlAttribute attribute = {raw_number(x, (const char *)from, (int32_t)(s - from), 1), x->chars.used, 0};
        if (attribute.step < 0) return NO_MEMORY;
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
        XmlRaw *raw = &AT(x->raws[1], XmlRaw, attribute.step);
        if (raw->declares) status = declare(x, raw->prefix, x->chars.at + attribute.from, attribute.size, depth);
        else {
            status = put_bytes(&x->attributes, &attribute, sizeof attribute);
            element->attribute_count++;
        }
        if (status) return status;
    }
    *start = s;
    return OK;
}

/* Finds what the names of an element and its attributes mean, now that all is declared; and what xml:space says. */
static int resolve_names(Xml *x, XmlElement *element) {
    int status = step_of(x, element->step, 0, &element->step);
    for (int32_t i = 0; !status && i < element->attribute_count; i++) {
        XmlAttribute *a = &AT(x->attributes, XmlAttribute, element->attributes + i);
        status = step_of(x, a->step, 1, &a->step);
        if (!status && a->step == x->space_step)
            element->keeps = a->size == 8 && !memcmp(x->chars.at + a->from, "preserve", 8);
    }
    return status;
}

/* Reads a start tag at *s (behind `<`) as a new element; *is_empty says whether it ends with `/>`. */
static int read_start_tag(Xml *x, const uint8_t **start, const uint8_t *end, int32_t parent, int32_t *made, int *is_empty) {
    const uint8_t *s = *start, *from = s;
    while (s < end && !is_space(*s) && *s != '>' && *s != '/') s++;
    if (s >= end || s == from) return BAD;
    int32_t name = raw_number(x, (const char *)from, (int32_t)(s - from), 0), depth = COUNT(x->open, int32_t);
    if (name < 0) return NO_MEMORY;
    if (depth > DEEPEST) return BAD;
    int keeps = parent < 0 ? x->keeps_space : AT(x->elements, XmlElement, parent).keeps;
    XmlElement element = {name, -1, -1, -1, -1, COUNT(x->attributes, XmlAttribute), 0, -1, -1, 0, keeps};
    int status = read_attributes(x, &s, end, depth, &element, is_empty);
    if (!status) status = resolve_names(x, &element);
    if (status) return status;
    if (*is_empty) leave_scope(x, depth);
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
            leave_scope(x, depth);
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

/* Makes every run of white space one blank. */
static int collapse(Xml *x, const char **bytes, size_t *size) {
    x->cleaned.used = 0;
    for (size_t i = 0; i < *size; i++) {
        uint8_t c = (uint8_t)(*bytes)[i];
        if (is_space(c) && i && is_space((uint8_t)(*bytes)[i - 1])) continue;
        if (put_u8(&x->cleaned, is_space(c) ? ' ' : c)) return NO_MEMORY;
    }
    *bytes = *size ? x->cleaned.at : "";
    *size = x->cleaned.used;
    return OK;
}

static void trim(const char **bytes, size_t *size) {
    while (*size && is_space((uint8_t)**bytes)) { (*bytes)++; (*size)--; }
    while (*size && is_space((uint8_t)(*bytes)[*size - 1])) (*size)--;
}

/* Cleans the white space of a text as it is asked for, unless its element keeps it. */
static int clean(Xml *x, int keeps, const char **bytes, size_t *size) {
    if (keeps || x->cleans == CLEAN_KEEP) return OK;
    trim(bytes, size);
    return x->cleans == CLEAN_COLLAPSE ? collapse(x, bytes, size) : OK;
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
    return a->step == x->nil_step && is_nil_value(x->chars.at + a->from, a->size);
}

/* Puts one element; where it holds more than text, it waits to be walked at the end of `pending`. */
static int put_element(Xml *x, int32_t name, int32_t parent, int32_t element) {
    XmlElement *e = &AT(x->elements, XmlElement, element);
    Writer *w = &x->p->tape;
    const char *bytes;
    size_t size;
    if (!e->elements && !e->attribute_count) {
        if (text_of(x, e, &bytes, &size) || clean(x, e->keeps, &bytes, &size)) return NO_MEMORY;
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
        status = put_typed(&x->p->tape, a->step, open->index, x->chars.at + a->from, a->size);
        if (status) return status;
    }
    open->groups = COUNT(x->groups, XmlGroup);
    x->stamp++;
    for (int32_t c = e.first; c >= 0; c = AT(x->elements, XmlElement, c).next) {
        int32_t step = AT(x->elements, XmlElement, c).step;
        XmlSeen *seen = seen_of(x, step);
        if (!seen) return NO_MEMORY;
        if (seen->stamp != x->stamp) {
            XmlGroup group = {c, c, 1, step};
            seen->stamp = x->stamp;
            seen->group = COUNT(x->groups, XmlGroup);
            if (put_bytes(&x->groups, &group, sizeof group)) return NO_MEMORY;
        } else {
            XmlGroup *group = &AT(x->groups, XmlGroup, seen->group);
            AT(x->elements, XmlElement, group->last).next_same = c;
            group->last = c;
            group->count++;
        }
    }
    open->group = open->groups;
    open->groups_end = x->groups.used;
    return OK;
}

#include "_xml_order.h"

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
    if (clean(x, e->keeps, &bytes, &size)) return NO_MEMORY;
    if (x->keeps_order && e->elements && put_order(x, open, bytes, size)) return NO_MEMORY;
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
        name = group->step;
        if (group->count > 1) {
            if (put_value(&x->p->tape, K_ARRAY, name, parent, 0)) return NO_MEMORY;
            parent = open->parent = x->p->tape.count - 1;
            open->next = AT(x->elements, XmlElement, child).next_same;
            name = NO_NAME;
        }
    }
    return put_element(x, name, parent, child);
}

/* Puts the values of the elements above a record that begins at a place, in the record. */
static int put_above(Xml *x, Py_ssize_t at, int32_t record) {
    while (x->run < x->run_count && x->runs[x->run].stop <= at) x->run++;
    if (x->run == x->run_count) return OK;
    XmlRun *run = &x->runs[x->run];
    for (Py_ssize_t i = run->first; i < run->first + run->count; i++) {
        XmlAbove *each = &x->above[i];
        int32_t step = intern(&x->p->tape.steps, each->name, (size_t)each->name_size);
        if (step < 0) return NO_MEMORY;
        if (put_typed(&x->p->tape, step, record, each->value, (size_t)each->value_size)) return NO_MEMORY;
    }
    return OK;
}

static int walk_tree(Xml *x, Py_ssize_t at) {
    if (put_value(&x->p->tape, K_OBJECT, NO_NAME, -1, 0)) return NO_MEMORY;
    XmlOpen first = {0, x->p->tape.count - 1, -1, 0, -1, -1, 0};
    if (put_above(x, at, first.index)) return NO_MEMORY;
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
        Py_ssize_t at = s - x->p->text;
        if (put_i64(&x->p->offsets, at)) return NO_MEMORY;
        int status = read_tree(x, &s);
        if (!status) status = walk_tree(x, at);
        if (status) return status;
    }
}

static void free_xml(Xml *x) {
    Buffer *buffers[] = {&x->prefixes, &x->raws[0], &x->raws[1], &x->hidden, &x->seen, &x->elements, &x->attributes, &x->pieces,
                         &x->chars, &x->groups, &x->pending, &x->open, &x->whole, &x->cleaned, &x->spelled, &x->tokens};
    for (size_t i = 0; i < sizeof(buffers) / sizeof(*buffers); i++) free(buffers[i]->at);
    free_names(&x->entity_names); free_names(&x->raw_names[0]); free_names(&x->raw_names[1]);
    free(x->spaces); free(x->entities); free(x->runs); free(x->above);
}

/* Takes the namespaces with their prefixes in paths; then the prefixes that are declared around the records. */
static int take_names(Xml *x, PyObject *spaces, PyObject *declared) {
    x->space_count = PyTuple_GET_SIZE(spaces);
    if (!(x->spaces = calloc((size_t)x->space_count + 1, sizeof(XmlSpace)))) return -1;
    for (Py_ssize_t i = 0; i < x->space_count; i++) {
        XmlSpace *each = &x->spaces[i];
        if (!PyArg_ParseTuple(PyTuple_GET_ITEM(spaces, i), "s#s#", &each->uri, &each->uri_size, &each->spelled,
                              &each->spelled_size)) return -1;
    }
    x->instance_space = space_number(x, INSTANCE_NAMESPACE, sizeof INSTANCE_NAMESPACE - 1);
    x->xml_space = space_number(x, XML_NAMESPACE, sizeof XML_NAMESPACE - 1);
    int32_t xml = prefix_number(x, "xml", 3);
    if (xml < 0) return -1;
    AT(x->prefixes, XmlPrefix, xml).space = x->xml_space;
    for (Py_ssize_t i = 0; i < PyTuple_GET_SIZE(declared); i++) {
        const char *prefix, *uri;
        Py_ssize_t size, uri_size;
        if (!PyArg_ParseTuple(PyTuple_GET_ITEM(declared, i), "s#s#", &prefix, &size, &uri, &uri_size)) return -1;
        int32_t number = prefix_number(x, prefix, (int32_t)size);
        if (number < 0) return -1;
        AT(x->prefixes, XmlPrefix, number).space = space_number(x, uri, (size_t)uri_size);
    }
    return 0;
}

/* Takes the entities: name, its text in content, its text in attributes. */
static int take_entities(Xml *x, PyObject *entities) {
    Py_ssize_t count = PyTuple_GET_SIZE(entities);
    if (!(x->entities = calloc((size_t)count + 1, sizeof(XmlEntity)))) return -1;
    for (Py_ssize_t i = 0; i < count; i++) {
        const char *name;
        Py_ssize_t size;
        XmlEntity *each = &x->entities[i];
        if (!PyArg_ParseTuple(PyTuple_GET_ITEM(entities, i), "s#s#s#", &name, &size, &each->in_content,
                              &each->content_size, &each->in_attribute, &each->attribute_size)) return -1;
        if (intern(&x->entity_names, name, (size_t)size) != i) return -1;
    }
    return 0;
}

/* Takes the runs of records: where each ends, and the steps and values above it. */
static int take_runs(Xml *x, PyObject *runs) {
    Py_ssize_t values = 0;
    x->run_count = PyTuple_GET_SIZE(runs);
    if (!(x->runs = calloc((size_t)x->run_count + 1, sizeof(XmlRun)))) return -1;
    for (Py_ssize_t i = 0; i < x->run_count; i++) {
        PyObject *above;
        XmlRun *run = &x->runs[i];
        if (!PyArg_ParseTuple(PyTuple_GET_ITEM(runs, i), "nO!", &run->stop, &PyTuple_Type, &above)) return -1;
        run->first = values;
        run->count = PyTuple_GET_SIZE(above);
        values += run->count;
    }
    if (!(x->above = calloc((size_t)values + 1, sizeof(XmlAbove)))) return -1;
    for (Py_ssize_t i = 0; i < x->run_count; i++) {
        PyObject *above = PyTuple_GET_ITEM(PyTuple_GET_ITEM(runs, i), 1);
        for (Py_ssize_t k = 0; k < x->runs[i].count; k++) {
            XmlAbove *each = &x->above[x->runs[i].first + k];
            if (!PyArg_ParseTuple(PyTuple_GET_ITEM(above, k), "s#s#", &each->name, &each->name_size, &each->value,
                                  &each->value_size)) return -1;
        }
    }
    return 0;
}

/* parse_xml(data, spaces, declared, entities, runs, cleans, keeps_space, keeps_order): the tape of the records in
 * `data`, with counts of comments and instructions; None if it has to be read in Python. */
static PyObject *py_parse_xml(PyObject *self, PyObject *args) {
    Py_buffer buffer;
    PyObject *spaces, *declared, *entities, *runs, *made = NULL;
    int status;
    Parser p = {0};
    Xml x = {0};
    if (!PyArg_ParseTuple(args, "y*O!O!O!O!iii", &buffer, &PyTuple_Type, &spaces, &PyTuple_Type, &declared,
                          &PyTuple_Type, &entities, &PyTuple_Type, &runs, &x.cleans, &x.keeps_space, &x.keeps_order))
        return NULL;
    x.p = &p;
    p.text = buffer.buf;
    p.end = p.text + buffer.len;
    x.text_step = x.nil_step = x.space_step = -1;
    if (take_names(&x, spaces, declared) || take_entities(&x, entities) || take_runs(&x, runs)) {
        if (!PyErr_Occurred()) PyErr_NoMemory();
        goto done;
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
