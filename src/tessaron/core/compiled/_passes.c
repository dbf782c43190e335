/* The compiled passes over the tape: learning its classes, emitting its values as columns, and digests.
 *
 * They do what plain_learning.py and plain_emission.py do, and the same tests run on both. A tape is checked before
 * it is walked, so that no number in it leads outside of memory.
 */
#include "_tape.h"
#include "_readings.h"
#include "_learning.h"
#include "_emission.h"
#include "_digests.h"

static PyMethodDef methods[] = {
    {"emit", py_emit, METH_VARARGS, "Return the lanes of a fragment."},
    {"digest", py_digest, METH_VARARGS, "Return a word for each record."},
    {NULL, NULL, 0, NULL}};

static struct PyModuleDef module = {
    .m_base = PyModuleDef_HEAD_INIT, .m_name = "_passes", .m_doc = "The compiled passes.", .m_size = 0, .m_methods = methods};

PyMODINIT_FUNC PyInit__passes(void) {
    if (PyType_Ready(&learner_type)) return NULL;
    PyObject *made = PyModule_Create(&module);
    if (made && PyModule_AddObjectRef(made, "Learner", (PyObject *)&learner_type)) Py_CLEAR(made);
    return made;
}
