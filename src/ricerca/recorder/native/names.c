/* One file, though a long one: rows of functions, what is known of their code, and their line tables are made and freed together. */
#include "names.h"

#include "frames.h"
#include "traits.h"

#include <fnmatch.h>
#include <stdlib.h>
#include <string.h>

typedef struct {
    uint32_t offset, bytes;
} text;

static uint32_t hash_bytes(const char *bytes, size_t count, uint32_t seed)
{
    uint32_t hash = 2166136261u ^ seed;
    for (size_t i = 0; i < count; i++) {
        hash = (hash ^ (uint8_t)bytes[i]) * 16777619u;
    }
    return hash;
}

/* Doubles a table of two-word or one-word slots by asking rehash to put every old slot in again. */
static int widen(uint32_t **slots, uint32_t *mask, size_t words, void (*put)(names *, uint32_t *, uint32_t, const uint32_t *),
                 names *self)
{
    uint32_t old_mask = *mask, new_mask = old_mask * 2 + 1;
    uint32_t *bigger = calloc((size_t)new_mask + 1, words * sizeof(uint32_t));
    if (bigger == NULL) {
        return 0;
    }
    for (uint32_t i = 0; i <= old_mask; i++) {
        const uint32_t *slot = *slots + (size_t)i * words;
        if (slot[0] != 0) {
            put(self, bigger, new_mask, slot);
        }
    }
    free(*slots);
    *slots = bigger;
    *mask = new_mask;
    return 1;
}

static void put_string(names *self, uint32_t *slots, uint32_t mask, const uint32_t *pair)
{
    uint32_t slot = hash_bytes((const char *)self->store->strings + pair[0], pair[1], 0) & mask;
    while (slots[slot * 2] != 0) {
        slot = (slot + 1) & mask;
    }
    slots[slot * 2] = pair[0];
    slots[slot * 2 + 1] = pair[1];
}

static text intern(names *self, const char *bytes, size_t count)
{
    text found = {0, 0};
    if (count == 0) {
        return found;
    }
    uint32_t slot = hash_bytes(bytes, count, 0) & self->string_mask;
    const uint32_t *pair;
    while ((pair = &self->string_slots[slot * 2])[0] != 0) {
        if (pair[1] == count && memcmp(self->store->strings + pair[0], bytes, count) == 0) {
            found.offset = pair[0];
            found.bytes = pair[1];
            return found;
        }
        slot = (slot + 1) & self->string_mask;
    }
    found.offset = arena_string(self->store, bytes, count);
    if (found.offset == 0) {
        return found;
    }
    found.bytes = (uint32_t)count;
    if (self->string_count * 2 > self->string_mask
        && !widen(&self->string_slots, &self->string_mask, 2, put_string, self)) {
        return found; /* not interned, merely stored */
    }
    uint32_t fresh[2] = {found.offset, found.bytes};
    put_string(self, self->string_slots, self->string_mask, fresh);
    self->string_count++;
    return found;
}

static text intern_object(names *self, PyObject *object)
{
    text none = {0, 0};
    Py_ssize_t count;
    if (object == NULL || !PyUnicode_Check(object)) {
        return none;
    }
    const char *bytes = PyUnicode_AsUTF8AndSize(object, &count);
    if (bytes != NULL) {
        return intern(self, bytes, (size_t)count);
    }
    PyErr_Clear(); /* a lone surrogate, as in a file name that is not UTF-8 */
    PyObject *escaped = PyUnicode_AsEncodedString(object, "utf-8", "backslashreplace");
    if (escaped == NULL) {
        PyErr_Clear();
        return none;
    }
    text found = intern(self, PyBytes_AS_STRING(escaped), (size_t)PyBytes_GET_SIZE(escaped));
    Py_DECREF(escaped);
    return found;
}

static uint32_t hash_function(const function_record *record)
{
    uint32_t key[6] = {record->name_offset, record->module_offset, record->file_offset, record->first_line, record->kind, record->nesting};
    return hash_bytes((const char *)key, sizeof key, 7);
}

static void put_function(names *self, uint32_t *slots, uint32_t mask, const uint32_t *index)
{
    uint32_t slot = hash_function(&self->store->functions[*index]) & mask;
    while (slots[slot] != 0) {
        slot = (slot + 1) & mask;
    }
    slots[slot] = *index;
}

/* The row with this content: code that is compiled anew again and again stays one function. */
static uint32_t function_row(names *self, const function_record *wanted)
{
    uint32_t slot = hash_function(wanted) & self->function_mask, index;
    while ((index = self->function_slots[slot]) != 0) {
        const function_record *row = &self->store->functions[index];
        if (row->name_offset == wanted->name_offset && row->module_offset == wanted->module_offset
            && row->file_offset == wanted->file_offset && row->first_line == wanted->first_line
            && row->kind == wanted->kind && row->nesting == wanted->nesting) {
            return index;
        }
        slot = (slot + 1) & self->function_mask;
    }
    index = arena_function(self->store, wanted);
    if (index == 0) {
        return 0;
    }
    if (self->function_count * 2 <= self->function_mask
        || widen(&self->function_slots, &self->function_mask, 1, put_function, self)) {
        put_function(self, self->function_slots, self->function_mask, &index);
        self->function_count++;
    }
    return index;
}

static int matches(const names *self, text name, char *const *patterns, int pattern_count)
{
    char buffer[1024];
    if (name.bytes == 0 || name.bytes >= sizeof buffer) {
        return 0;
    }
    memcpy(buffer, self->store->strings + name.offset, name.bytes);
    buffer[name.bytes] = '\0';
    const char *base = strrchr(buffer, '/');
    for (int i = 0; i < pattern_count; i++) {
        if (fnmatch(patterns[i], buffer, 0) == 0 || (base != NULL && fnmatch(patterns[i], base + 1, 0) == 0)) {
            return 1;
        }
    }
    return 0;
}

static int is_timed(const names *self, PyCodeObject *code, uint32_t first_line)
{
    const char *name = NULL, *file = NULL;
    for (int i = 0; i < self->timed_count; i++) {
        const code_key *key = &self->timed[i];
        if (key->first_line != first_line) {
            continue;
        }
        if (name == NULL && ((name = PyUnicode_AsUTF8(code->co_name)) == NULL || (file = PyUnicode_AsUTF8(code->co_filename)) == NULL)) {
            PyErr_Clear();
            return 0;
        }
        if (strcmp(key->name, name) == 0 && strcmp(key->file, file) == 0) {
            return 1;
        }
    }
    return 0;
}

static PyObject *qualified_name(PyCodeObject *code)
{
#if PY_VERSION_HEX >= 0x030B0000
    return code->co_qualname;
#else
    return code->co_name;
#endif
}

#if PY_VERSION_HEX < 0x030B0000
/* How many functions of this name and line lie inside each other within a code object. */
static uint32_t nesting_of(PyCodeObject *code, PyObject *name, int line)
{
    uint32_t most = 0;
    for (Py_ssize_t i = 0; i < PyTuple_GET_SIZE(code->co_consts); i++) {
        PyObject *inner = PyTuple_GET_ITEM(code->co_consts, i);
        if (PyCode_Check(inner)) {
            const PyCodeObject *one = (PyCodeObject *)inner;
            int same = one->co_firstlineno == line && PyUnicode_Compare(one->co_name, name) == 0;
            uint32_t found = (uint32_t)same + nesting_of((PyCodeObject *)inner, name, line);
            most = found > most ? found : most;
        }
    }
    return most;
}
#endif

/* Pieces of memory for code_info are never given back: an entry of a stack that was put aside may still point to
 * one when its code is gone, and must find that it is another's or nobody's. */
#define SLAB 128

static code_info *free_infos;

static code_info *new_info(void)
{
    if (free_infos == NULL) {
        code_info *slab = calloc(SLAB, sizeof *slab);
        for (int i = 0; slab != NULL && i < SLAB; i++) {
            slab[i].lines = (uint32_t *)free_infos; /* the next free one */
            free_infos = &slab[i];
        }
    }
    code_info *info = free_infos;
    if (info != NULL) {
        free_infos = (code_info *)info->lines;
        memset(info, 0, sizeof *info);
    }
    return info;
}

static void free_code_info(void *object)
{
    code_info *info = object;
    if (info != NULL) {
        free(info->lines);
        info->object = NULL;
        info->lines = (uint32_t *)free_infos;
        info->unit_count = 0;
        free_infos = info;
    }
}

static void spread_range(code_info *info, PyObject *range, uint32_t *last)
{
    PyObject *from, *to, *line;
    if (!PyTuple_Check(range) || PyTuple_GET_SIZE(range) != 3) {
        return;
    }
    from = PyTuple_GET_ITEM(range, 0);
    to = PyTuple_GET_ITEM(range, 1);
    line = PyTuple_GET_ITEM(range, 2);
    if (line != Py_None) {
        *last = (uint32_t)PyLong_AsLong(line);
    }
    for (long unit = PyLong_AsLong(from) / 2; unit < PyLong_AsLong(to) / 2 && unit < (long)info->unit_count; unit++) {
        info->lines[unit] = *last;
    }
}

void names_lines(code_info *info, PyCodeObject *code)
{
    info->lines = calloc((size_t)info->unit_count + 1, sizeof *info->lines);
    if (info->lines == NULL) {
        return;
    }
    uint32_t last = (uint32_t)code->co_firstlineno;
#if PY_VERSION_HEX >= 0x030A0000
    PyObject *ranges = PyObject_CallMethod((PyObject *)code, "co_lines", NULL);
    PyObject *range;
    while (ranges != NULL && (range = PyIter_Next(ranges)) != NULL) {
        spread_range(info, range, &last);
        Py_DECREF(range);
    }
    Py_XDECREF(ranges);
    PyErr_Clear();
#else
    (void)spread_range;
    for (uint32_t unit = 0; unit < info->unit_count; unit++) {
        int line = PyCode_Addr2Line(code, (int)unit * 2);
        info->lines[unit] = line > 0 ? (uint32_t)line : last;
    }
#endif
}

/* The interpreter makes room for everybody who may attach something to code, and when the code goes it calls all of
 * them, also for what they never attached, and even when they are gone themselves, as at the very end. Only what is
 * attached already stays; for more the interpreter makes room when it is attached. */
static void leave_others_out(const names *self, PyCodeObject *code)
{
    code_extras *extras = self->extra_direct ? code->co_extra : NULL;
    while (extras != NULL && extras->count > self->extra_index + 1 && extras->values[extras->count - 1] == NULL) {
        extras->count--;
    }
}

code_info *names_code(names *self, PyCodeObject *code, PyObject *globals)
{
    function_record record = {.kind = KIND_PYTHON, .first_line = (uint32_t)code->co_firstlineno};
    PyObject *module = globals != NULL && PyDict_Check(globals) ? PyDict_GetItemString(globals, "__name__") : NULL;
    text name = intern_object(self, qualified_name(code));
    text file = intern_object(self, code->co_filename);
    text owner = intern_object(self, module);
    record.name_offset = name.offset;
    record.name_bytes = name.bytes;
    record.file_offset = file.offset;
    record.file_bytes = file.bytes;
    record.module_offset = owner.offset;
    record.module_bytes = owner.bytes;
    record.code_flags = (uint32_t)code->co_flags;
    if (record.name_bytes == 8 && memcmp(self->store->strings + record.name_offset, "<module>", 8) == 0) {
        record.first_line = 1; /* older interpreters give the line of its first statement */
    }
#if PY_VERSION_HEX < 0x030B0000
    if (PyUnicode_READ_CHAR(code->co_name, 0) == '<') {
        record.nesting = nesting_of(code, code->co_name, code->co_firstlineno);
    }
#endif
    record.chosen = matches(self, name, self->patterns, self->pattern_count)
        || matches(self, file, self->patterns, self->pattern_count)
        || matches(self, owner, self->patterns, self->pattern_count);
    code_info *info = new_info();
    if (info == NULL) {
        return NULL;
    }
    info->object = code;
    record.light = LIGHT_UNKNOWN;
    info->traits = traits_of(code, &record.lookups);
    info->function = function_row(self, &record);
    info->traits |= matches(self, name, self->insides, self->inside_count) ? TRAIT_INSIDE : 0;
    info->traits |= is_timed(self, code, record.first_line) ? TRAIT_TIMED : 0;
    info->unit_count = unit_count_of(code);
    info->first_offset = first_offset_of(code);
    if (code_set_extra((PyObject *)code, self->extra_index, info) != 0) {
        PyErr_Clear();
        free_code_info(info);
        return NULL;
    }
    leave_others_out(self, code);
    return info;
}

/* The name of a type with something behind it, and its module. */
static void describe_type(names *self, PyTypeObject *type, const char *end, function_record *record)
{
    char full[512];
    text module = {0, 0};
    if (type->tp_flags & Py_TPFLAGS_HEAPTYPE) {
        const char *owner = PyUnicode_AsUTF8(((PyHeapTypeObject *)type)->ht_qualname);
        if (owner == NULL) {
            PyErr_Clear();
            owner = "?";
        }
        snprintf(full, sizeof full, "%s%s", owner, end);
        if (type->tp_dict != NULL) {
            module = intern_object(self, PyDict_GetItemString(type->tp_dict, "__module__"));
        }
    } else {
        const char *dot = strrchr(type->tp_name, '.');
        snprintf(full, sizeof full, "%s%s", dot == NULL ? type->tp_name : dot + 1, end);
        module = dot == NULL ? intern(self, "builtins", 8)
                             : intern(self, type->tp_name, (size_t)(dot - type->tp_name));
    }
    text qualified = intern(self, full, strlen(full));
    record->kind = KIND_BUILTIN;
    record->name_offset = qualified.offset;
    record->name_bytes = qualified.bytes;
    record->module_offset = module.offset;
    record->module_bytes = module.bytes;
}

static void describe_builtin(names *self, const PyMethodDef *method, PyObject *module_name, PyTypeObject *type,
                             function_record *record)
{
    char end[256];
    if (type != NULL) {
        snprintf(end, sizeof end, ".%s", method->ml_name);
        describe_type(self, type, end, record);
        return;
    }
    text name = intern(self, method->ml_name, strlen(method->ml_name));
    text module = intern_object(self, module_name);
    record->kind = KIND_BUILTIN;
    record->name_offset = name.offset;
    record->name_bytes = name.bytes;
    record->module_offset = module.offset;
    record->module_bytes = module.bytes;
}

static void grow_builtins(names *self)
{
    uint32_t mask = self->builtin_mask * 2 + 1;
    struct builtin_slot *bigger = calloc((size_t)mask + 1, sizeof *bigger);
    if (bigger == NULL) {
        return;
    }
    for (uint32_t i = 0; i <= self->builtin_mask; i++) {
        struct builtin_slot *old = &self->builtin_slots[i];
        if (old->function != 0) {
            uint32_t slot = builtin_hash(old->method, old->owner) & mask;
            while (bigger[slot].function != 0) {
                slot = (slot + 1) & mask;
            }
            bigger[slot] = *old;
        }
    }
    free(self->builtin_slots);
    self->builtin_slots = bigger;
    self->builtin_mask = mask;
}

static uint32_t keep_builtin(names *self, const void *method, uint64_t owner, uint32_t index)
{
    if (index == 0) {
        return 0;
    }
    if (self->builtin_count * 2 > self->builtin_mask) {
        grow_builtins(self);
    }
    uint32_t slot = builtin_hash(method, owner) & self->builtin_mask;
    while (self->builtin_slots[slot].function != 0) {
        slot = (slot + 1) & self->builtin_mask;
    }
    if (self->builtin_count < self->builtin_mask) {
        struct builtin_slot fresh = {method, owner, index};
        self->builtin_slots[slot] = fresh;
        self->builtin_count++;
    }
    return index;
}

uint32_t names_new_builtin(names *self, const PyMethodDef *method, PyObject *module_name, PyTypeObject *type)
{
    function_record record = {0};
    describe_builtin(self, method, module_name, type, &record);
    return keep_builtin(self, method, builtin_owner(method, type), function_row(self, &record));
}

uint32_t names_new_named(names *self, const void *key, uint64_t owner, PyObject *name, PyObject *module, PyTypeObject *type)
{
    function_record record = {0};
    if (type != NULL) {
        describe_type(self, type, "", &record); /* its module stands for the object's */
    }
    text own = intern_object(self, name);
    record.kind = KIND_BUILTIN;
    record.name_offset = own.offset;
    record.name_bytes = own.bytes;
    if (module != NULL) {
        text place = intern_object(self, module);
        record.module_offset = place.offset;
        record.module_bytes = place.bytes;
    }
    return keep_builtin(self, key, owner, function_row(self, &record));
}

uint32_t names_new_type(names *self, const void *key, uint64_t owner, PyTypeObject *type, const char *end)
{
    function_record record = {0};
    describe_type(self, type, end, &record);
    return keep_builtin(self, key, owner, function_row(self, &record));
}

uint32_t names_item(names *self, uint32_t kind, const char *bytes, size_t count)
{
    text name = intern(self, bytes, count);
    function_record record = {.kind = kind, .name_offset = name.offset, .name_bytes = name.bytes};
    return function_row(self, &record);
}

uint32_t names_thread_root(names *self)
{
    return names_item(self, KIND_THREAD, "<thread start>", 14);
}

/* Looks a thread's name up in threading's own table, without running any Python code. */
void names_thread(names *self, thread_record *record)
{
    PyObject *modules = PyImport_GetModuleDict();
    PyObject *threading = modules == NULL ? NULL : PyDict_GetItemString(modules, "threading");
    PyObject *space = threading != NULL && PyModule_Check(threading) ? PyModule_GetDict(threading) : NULL;
    PyObject *active = space == NULL ? NULL : PyDict_GetItemString(space, "_active");
    if (active == NULL || !PyDict_Check(active)) {
        return;
    }
    PyObject *ident = PyLong_FromUnsignedLong(PyThread_get_thread_ident());
    PyObject *thread = ident == NULL ? NULL : PyDict_GetItem(active, ident);
    Py_XDECREF(ident);
    PyObject **space_of = thread == NULL ? NULL : _PyObject_GetDictPtr(thread);
    if (space_of == NULL || *space_of == NULL) {
        PyErr_Clear();
        return;
    }
    text name = intern_object(self, PyDict_GetItemString(*space_of, "_name"));
    record->name_offset = name.offset;
    record->name_bytes = name.bytes;
}

/* Whether what is attached to a code object lies where code_extras has it. */
static int extras_lie_as_known(Py_ssize_t index)
{
    void *mark = new_info();
    void *asked = NULL;
    PyObject *code = Py_CompileString("0", "<calibration>", Py_eval_input);
    if (code == NULL || mark == NULL || code_set_extra(code, index, mark) != 0) {
        PyErr_Clear();
        free_code_info(mark);
        Py_XDECREF(code);
        return 0;
    }
    const code_extras *extras = ((PyCodeObject *)code)->co_extra;
    int known = code_get_extra(code, index, &asked) == 0 && asked == mark && extras != NULL && extras->count > index
        && extras->count < 256 && extras->values[index] == mark;
    Py_DECREF(code); /* frees the mark */
    return known;
}

int names_open(names *self, arena *store)
{
    memset(self, 0, sizeof *self);
    self->store = store;
    self->string_mask = 4095;
    self->function_mask = 2047;
    self->builtin_mask = 1023;
    self->string_slots = calloc((size_t)self->string_mask + 1, 2 * sizeof(uint32_t));
    self->function_slots = calloc((size_t)self->function_mask + 1, sizeof(uint32_t));
    self->builtin_slots = calloc((size_t)self->builtin_mask + 1, sizeof *self->builtin_slots);
    self->extra_index = code_request_extra(free_code_info);
    if (self->string_slots == NULL || self->function_slots == NULL || self->builtin_slots == NULL
        || self->extra_index < 0) {
        names_close(self);
        PyErr_NoMemory();
        return -1;
    }
    self->extra_direct = extras_lie_as_known(self->extra_index);
    return 0;
}

void names_close(names *self)
{
    for (int i = 0; i < self->pattern_count; i++) {
        free(self->patterns[i]);
    }
    for (int i = 0; i < self->inside_count; i++) {
        free(self->insides[i]);
    }
    for (int i = 0; i < self->timed_count; i++) {
        free(self->timed[i].name);
        free(self->timed[i].file);
    }
    free(self->patterns);
    free(self->insides);
    free(self->timed);
    free(self->string_slots);
    free(self->function_slots);
    free(self->builtin_slots);
    memset(self, 0, sizeof *self);
}
