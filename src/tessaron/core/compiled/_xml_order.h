/* How what stands in an element of XML is ordered, for the compiled kernel: the text that part_order.py says. */

typedef struct { int32_t step, count; } XmlToken;   /* a run of elements; of letters where `step` is NO_NAME */

static int put_token(Xml *x, int32_t step, int32_t count) {
    int32_t tokens = COUNT(x->tokens, XmlToken);
    if (!count) return OK;
    if (tokens && AT(x->tokens, XmlToken, tokens - 1).step == step) {
        AT(x->tokens, XmlToken, tokens - 1).count += count;
        return OK;
    }
    XmlToken made = {step, count};
    return put_bytes(&x->tokens, &made, sizeof made);
}

static int32_t letters_in(const char *bytes, size_t size) {
    int32_t count = 0;
    for (size_t i = 0; i < size; i++) count += ((uint8_t)bytes[i] & 0xC0) != 0x80;
    return count;
}

/* Where the letters of the cleaned text are counted: those of a piece are told as it goes by. */
typedef struct { int64_t at, last, letters; int collapses, after_space; } XmlCount;

static int32_t letters_of_piece(XmlCount *c, const char *bytes, size_t size) {
    if (!c->collapses) c->at += letters_in(bytes, size);
    else for (size_t i = 0; i < size; i++) {
        int space = is_space((uint8_t)bytes[i]);
        c->at += ((uint8_t)bytes[i] & 0xC0) != 0x80 && !(space && c->after_space);
        c->after_space = space;
    }
    int64_t stop = c->at < 0 ? 0 : c->at > c->letters ? c->letters : c->at;
    int32_t count = (int32_t)(stop - c->last);
    c->last = stop;
    return count;
}

static int start_count(Xml *x, const XmlElement *e, const char *text, size_t size, XmlCount *count) {
    const char *whole;
    size_t whole_size, lead = 0;
    *count = (XmlCount){0, 0, letters_in(text, size), 0, 1};
    /* `text` may stand in `whole` itself, which is made anew with the same letters. */
    if (!size) return OK;
    if (text_of(x, e, &whole, &whole_size)) return NO_MEMORY;
    while (lead < whole_size && is_space((uint8_t)whole[lead])) lead++;
    size_t tail = whole_size;
    while (tail > lead && is_space((uint8_t)whole[tail - 1])) tail--;
    count->at = size == whole_size ? 0 : -(int64_t)lead;
    count->collapses = size != whole_size && size != tail - lead;
    if (count->collapses) count->at = 0;
    return OK;
}

static int put_tokens(Xml *x, const XmlElement *e, XmlCount *count) {
    int32_t piece = e->pieces, child = e->first;
    x->tokens.used = 0;
    for (int32_t before = 0; piece >= 0 || child >= 0;) {
        if (piece >= 0 && AT(x->pieces, XmlPiece, piece).after == before) {
            XmlPiece *p = &AT(x->pieces, XmlPiece, piece);
            int32_t letters = count->letters ? letters_of_piece(count, x->chars.at + p->from, p->size) : 0;
            if (put_token(x, NO_NAME, letters)) return NO_MEMORY;
            piece = p->next;
        } else {
            if (put_token(x, AT(x->elements, XmlElement, child).step, 1)) return NO_MEMORY;
            child = AT(x->elements, XmlElement, child).next;
            before++;
        }
    }
    return OK;
}

static int spell_token(Xml *x, int32_t index) {
    XmlToken *token = &AT(x->tokens, XmlToken, index);
    char number[16];
    if (index && put_u8(&x->spelled, ' ')) return NO_MEMORY;
    if (token->step == NO_NAME) {
        snprintf(number, sizeof number, "#%d", (int)token->count);
        return put_bytes(&x->spelled, number, strlen(number));
    }
    const Names *steps = &x->p->tape.steps;
    /* Behind the letter that says markup. */
    if (put_bytes(&x->spelled, name_text(steps, token->step) + 1, (size_t)steps->at[token->step].size - 1)) return NO_MEMORY;
    if (AT(x->seen, XmlSeen, token->step).group == index) return OK;
    snprintf(number, sizeof number, "*%d", (int)token->count);
    return put_bytes(&x->spelled, number, strlen(number));
}

/* Puts the order of an element with others in it, where more than one is possible; `text` is its own, cleaned. */
static int put_order(Xml *x, const XmlOpen *open, const char *text, size_t size) {
    XmlElement *e = &AT(x->elements, XmlElement, open->element);
    XmlCount count;
    int32_t names = 0;
    if (start_count(x, e, text, size, &count) || put_tokens(x, e, &count)) return NO_MEMORY;
    int32_t tokens = COUNT(x->tokens, XmlToken);
    x->stamp++;
    for (int32_t i = 0; i < tokens; i++) {
        int32_t step = AT(x->tokens, XmlToken, i).step;
        XmlSeen *seen = step < 0 ? NULL : seen_of(x, step);
        if (step >= 0 && !seen) return NO_MEMORY;
        if (!seen) continue;
        names += seen->stamp != x->stamp;
        seen->stamp = x->stamp;
        seen->group = i;
    }
    int is_text_first = tokens == 2 && AT(x->tokens, XmlToken, 0).step == NO_NAME;
    if (!names || (names == 1 && (!size || is_text_first))) return OK;
    x->spelled.used = 0;
    for (int32_t i = 0; i < tokens; i++) if (spell_token(x, i)) return NO_MEMORY;
    return put_text(&x->p->tape, M_ORDER, NO_NAME, open->index, x->spelled.at, x->spelled.used);
}
