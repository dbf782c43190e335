/* The names, namespaces and references of XML, for the compiled kernel.
 *
 * A name as it is written (`p:call`) means another one wherever another namespace is declared for its prefix. So
 * each spelling remembers what it meant last; what it means is the number of its step as paths spell it, which two
 * spellings of one name share.
 */

enum { NO_SPACE = -1, NOT_DECLARED = -2, NOT_RESOLVED = -3 };
enum { IS_NAME, IS_DECLARATION };

typedef struct { const char *uri, *spelled; Py_ssize_t uri_size, spelled_size; } XmlSpace;
/* A prefix with the namespace that it stands for here; the empty one is that of the default namespace. */
typedef struct { const char *prefix; int32_t size, space; } XmlPrefix;
/* What a name as it is written means; `prefix` is the one that it has, or the one that it declares. */
typedef struct { int32_t declares, prefix, space, step; } XmlRaw;
/* What a declaration hid, to be put back at the end of the element. */
typedef struct { int32_t prefix, space, depth; } XmlHidden;
typedef struct { const char *in_content, *in_attribute; Py_ssize_t content_size, attribute_size; } XmlEntity;
/* A run of records: where it ends, and the values above them that each one has. */
typedef struct { Py_ssize_t stop, first, count; } XmlRun;
typedef struct { const char *name, *value; Py_ssize_t name_size, value_size; } XmlAbove;
typedef struct { int32_t stamp, group; } XmlSeen;

typedef struct {
    Parser *p;
    XmlSpace *spaces; Py_ssize_t space_count;
    XmlEntity *entities; Names entity_names;
    XmlRun *runs; XmlAbove *above; Py_ssize_t run_count, run;
    Names raw_names[2]; Buffer raws[2];      /* of elements, and of attributes */
    Buffer prefixes, hidden, seen;
    int32_t instance_space, xml_space;       /* the namespaces of xsi: and xml: */
    int32_t nil_step, space_step;            /* of xsi:nil and xml:space; -1 while nothing meant them */
    Buffer elements, attributes, pieces, chars, groups, pending, open, whole, cleaned, spelled, tokens;
    int32_t stamp, text_step;
    int cleans, keeps_order, keeps_space;
    int64_t comments, instructions;
} Xml;

static inline int is_space(uint8_t c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t'; }

/* Returns the number of a prefix; -1 without memory. */
static int32_t prefix_number(Xml *x, const char *prefix, int32_t size) {
    for (int32_t i = 0; i < COUNT(x->prefixes, XmlPrefix); i++) {
        XmlPrefix *each = &AT(x->prefixes, XmlPrefix, i);
        if (each->size == size && !memcmp(each->prefix, prefix, (size_t)size)) return i;
    }
    XmlPrefix made = {prefix, size, size ? NOT_DECLARED : NO_SPACE};
    if (put_bytes(&x->prefixes, &made, sizeof made)) return -1;
    return COUNT(x->prefixes, XmlPrefix) - 1;
}

/* Returns the number of a namespace; NOT_DECLARED for one that has no prefix to be spelled with. */
static int32_t space_number(const Xml *x, const char *uri, size_t size) {
    if (!size) return NO_SPACE;
    for (Py_ssize_t i = 0; i < x->space_count; i++)
        if ((size_t)x->spaces[i].uri_size == size && !memcmp(x->spaces[i].uri, uri, size)) return (int32_t)i;
    return NOT_DECLARED;
}

/* Returns the number of the name of an element or attribute as it is written; -1 without memory. */
static int32_t raw_number(Xml *x, const char *raw, int32_t size, int is_attribute) {
    Buffer *raws = &x->raws[is_attribute];
    int32_t number = intern(&x->raw_names[is_attribute], raw, (size_t)size);
    if (number < COUNT(*raws, XmlRaw)) return number;
    const char *colon = memchr(raw, ':', (size_t)size);
    int32_t head = colon ? (int32_t)(colon - raw) : 0;
    XmlRaw made = {IS_NAME, -1, NOT_RESOLVED, -1};
    if (is_attribute && size >= 5 && !memcmp(raw, "xmlns", 5) && (size == 5 || raw[5] == ':')) {
        made.declares = IS_DECLARATION;
        made.prefix = size == 5 ? prefix_number(x, "", 0) : prefix_number(x, raw + 6, size - 6);
        if (made.prefix < 0) return -1;
    } else if ((head || !is_attribute) && (made.prefix = prefix_number(x, raw, head)) < 0) return -1;
    return put_bytes(raws, &made, sizeof made) ? -1 : number;
}

static inline int is_local(const char *local, size_t size, const char *wanted) {
    return size == strlen(wanted) && !memcmp(local, wanted, size);
}

/* Gives the number of the step that a name means here: prefix as in paths, `@` for attributes. */
static int step_of(Xml *x, int32_t number, int is_attribute, int32_t *step) {
    XmlRaw *r = &AT(x->raws[is_attribute], XmlRaw, number);
    int32_t space = r->prefix < 0 ? NO_SPACE : AT(x->prefixes, XmlPrefix, r->prefix).space;
    if (space != r->space) {
        if (space == NOT_DECLARED) return BAD;
        const Names *names = &x->raw_names[is_attribute];
        const char *raw = name_text(names, number);
        size_t size = (size_t)names->at[number].size;
        const char *colon = memchr(raw, ':', size), *local = colon ? colon + 1 : raw;
        size_t local_size = size - (size_t)(local - raw);
        XmlSpace none = {"", "", 0, 0}, *in = space == NO_SPACE ? &none : &x->spaces[space];
        x->spelled.used = 0;
        if (put_bytes(&x->spelled, "\x1f@", is_attribute ? 2 : 1) ||
            put_bytes(&x->spelled, in->spelled, (size_t)in->spelled_size) ||
            put_bytes(&x->spelled, ":", in->spelled_size ? 1 : 0) ||
            put_bytes(&x->spelled, local, local_size)) return NO_MEMORY;
        r->step = intern(&x->p->tape.steps, x->spelled.at, x->spelled.used);
        if (r->step < 0) return NO_MEMORY;
        r->space = space;
        if (is_attribute && space == x->instance_space && is_local(local, local_size, "nil")) x->nil_step = r->step;
        if (is_attribute && space == x->xml_space && is_local(local, local_size, "space")) x->space_step = r->step;
    }
    *step = r->step;
    return OK;
}

/* Takes in a declaration on an element at a depth: what the prefix meant comes back behind it. */
static int declare(Xml *x, int32_t prefix, const char *uri, size_t size, int32_t depth) {
    XmlPrefix *p = &AT(x->prefixes, XmlPrefix, prefix);
    XmlHidden hidden = {prefix, p->space, depth};
    if (put_bytes(&x->hidden, &hidden, sizeof hidden)) return NO_MEMORY;
    p->space = space_number(x, uri, size);
    return p->space == NOT_DECLARED ? BAD : OK;
}

static inline void leave_scope(Xml *x, int32_t depth) {
    for (int32_t n; (n = COUNT(x->hidden, XmlHidden)) && AT(x->hidden, XmlHidden, n - 1).depth >= depth;) {
        XmlHidden *last = &AT(x->hidden, XmlHidden, n - 1);
        AT(x->prefixes, XmlPrefix, last->prefix).space = last->space;
        x->hidden.used -= sizeof(XmlHidden);
    }
}

/* Returns what was noted last of a step; NULL without memory. */
static inline XmlSeen *seen_of(Xml *x, int32_t step) {
    size_t need = ((size_t)step + 1) * sizeof(XmlSeen);
    if (need > x->seen.used) {
        size_t from = x->seen.used;
        if (grow(&x->seen, need - from)) return NULL;
        memset(x->seen.at + from, 0xff, need - from);
        x->seen.used = need;
    }
    return &AT(x->seen, XmlSeen, step);
}

static int put_entity(Xml *x, const char *name, size_t size, int is_attribute) {
    int32_t number = x->entities ? number_of(&x->entity_names, name, size) : -1;
    if (number < 0) return BAD;
    XmlEntity *e = &x->entities[number];
    return put_bytes(&x->chars, is_attribute ? e->in_attribute : e->in_content,
                     (size_t)(is_attribute ? e->attribute_size : e->content_size));
}

/* Puts a reference that begins at *s (behind `&`) into the characters; BAD for one that is not known. */
static int put_reference(Xml *x, const uint8_t **s, const uint8_t *end, int is_attribute) {
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
        if (!code) { *s = stop + 1; return put_entity(x, (const char *)at, size, is_attribute); }
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
            int status = put_reference(x, &s, stop, is_attribute);
            if (status) return status;
        } else {
            int is_return = *s++ == '\r';
            if (is_return && s < stop && *s == '\n') s++;
            if (put_u8(&x->chars, is_attribute ? ' ' : '\n')) return NO_MEMORY;
        }
    }
    return OK;
}
