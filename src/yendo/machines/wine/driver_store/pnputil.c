/* Stands in the place of the layer's pnputil, which does nothing: it calls the layer's own store (SetupAPI), and keeps the list
 * of it where Windows keeps one, in HKLM\System\DriverDatabase.
 *
 *   pnputil /add-driver FILE|PATTERN [/subdirs] [/install]
 *   pnputil /delete-driver oemN.inf [/uninstall] [/force]
 *   pnputil /enum-drivers
 *
 * It looks at no signature, chooses among no sections, ranks nothing, and installs on no device.
 * Codes: 0; 259 where nothing was added; 2 where there is no such file; 0xE000023C for a name that the store does not know.
 */
#include <windows.h>
#include <setupapi.h>

#define LETTERS 1024
#define PACKAGES L"System\\DriverDatabase\\DriverPackages"
#define NAMES L"System\\DriverDatabase\\DriverInfFiles"
#define STORE L"\\System32\\DriverStore\\FileRepository\\"

static HANDLE out;
static int found_count, added_count, subdirs;
static DWORD failed;

static void put(const WCHAR *text)
{
    char bytes[LETTERS * 3];
    DWORD done;
    int count = WideCharToMultiByte(CP_ACP, 0, text, -1, bytes, sizeof bytes, NULL, NULL) - 1;
    if (count > 0) WriteFile(out, bytes, count, &done, NULL);
}

static int same(const WCHAR *one, const WCHAR *other) { return lstrcmpiW(one, other) == 0; }

static const WCHAR *file_of(const WCHAR *path)
{
    const WCHAR *last = path;
    for (; *path; path++) if (*path == '\\' || *path == '/') last = path + 1;
    return last;
}

static int join(WCHAR *target, const WCHAR *one, const WCHAR *other)
{
    if (lstrlenW(one) + lstrlenW(other) >= LETTERS) return 0;
    lstrcpyW(target, one);
    lstrcatW(target, other);
    return 1;
}

static HKEY opened(const WCHAR *path)
{
    HKEY key = NULL;
    RegCreateKeyExW(HKEY_LOCAL_MACHINE, path, 0, NULL, 0, KEY_ALL_ACCESS, NULL, &key, NULL);
    return key;
}

static void set(const WCHAR *path, const WCHAR *name, const WCHAR *data)
{
    WCHAR whole[LETTERS];
    HKEY key;
    if (!join(whole, path, L"\\") || lstrlenW(whole) + lstrlenW(name) >= LETTERS) return;
    lstrcatW(whole, name);
    key = opened(whole);
    if (!key) return;
    RegSetValueExW(key, NULL, 0, REG_SZ, (const BYTE *)data, (lstrlenW(data) + 1) * sizeof *data);
    RegCloseKey(key);
}

static int told(const WCHAR *path, const WCHAR *name, WCHAR *data)
{
    DWORD size = LETTERS * sizeof *data;
    HKEY parent = opened(path);
    LSTATUS status = RegGetValueW(parent, name, NULL, RRF_RT_REG_SZ, NULL, data, &size);
    RegCloseKey(parent);
    return status == ERROR_SUCCESS;
}

static void forget(const WCHAR *path, const WCHAR *name)
{
    HKEY parent = opened(path);
    RegDeleteKeyW(parent, name);
    RegCloseKey(parent);
}

static int equal(const WCHAR *one, const WCHAR *other)
{
    static char left[65536], right[65536];
    HANDLE first = CreateFileW(one, GENERIC_READ, FILE_SHARE_READ, NULL, OPEN_EXISTING, 0, NULL);
    HANDLE second = CreateFileW(other, GENERIC_READ, FILE_SHARE_READ, NULL, OPEN_EXISTING, 0, NULL);
    DWORD read = 0, more = 0, at;
    int good = first != INVALID_HANDLE_VALUE && second != INVALID_HANDLE_VALUE;
    while (good) {
        if (!ReadFile(first, left, sizeof left, &read, NULL) || !ReadFile(second, right, sizeof right, &more, NULL) || read != more) good = 0;
        for (at = 0; good && at < read; at++) if (left[at] != right[at]) good = 0;
        if (!read) break;
    }
    if (first != INVALID_HANDLE_VALUE) CloseHandle(first);
    if (second != INVALID_HANDLE_VALUE) CloseHandle(second);
    return good;
}

/* The folder of the store that holds just this .inf; 0 where there is none. */
static int stored(const WCHAR *path, WCHAR *folder)
{
    WCHAR pattern[LETTERS], file[LETTERS], windows[MAX_PATH];
    WIN32_FIND_DATAW data;
    HANDLE search;
    int good = 0;
    GetWindowsDirectoryW(windows, MAX_PATH);
    if (!join(pattern, windows, STORE) || lstrlenW(file_of(path)) > 200) return 0;
    lstrcatW(pattern, file_of(path));
    lstrcatW(pattern, L"_*");
    search = FindFirstFileW(pattern, &data);
    if (search == INVALID_HANDLE_VALUE) return 0;
    do {
        lstrcpyW(file, windows);
        lstrcatW(file, STORE);
        if (lstrlenW(file) + lstrlenW(data.cFileName) + lstrlenW(file_of(path)) + 2 >= LETTERS) continue;
        lstrcatW(file, data.cFileName);
        lstrcatW(file, L"\\");
        lstrcatW(file, file_of(path));
        if (equal(path, file)) {
            lstrcpyW(folder, data.cFileName);
            good = 1;
        }
    } while (!good && FindNextFileW(search, &data));
    FindClose(search);
    return good;
}

static void add(const WCHAR *path)
{
    WCHAR folder[LETTERS], published[LETTERS], name[32], beside[LETTERS];
    int number = 0;
    found_count++;
    put(L"Driver: ");
    put(file_of(path));
    put(L"\r\n");
    if (stored(path, folder) && told(PACKAGES, folder, name)) {
        put(L"It is in the store already.\r\nPublished name: ");
        put(name);
        put(L"\r\n");
        return;
    }
    lstrcpyW(beside, path);
    beside[file_of(path) - path] = 0;
    if (!SetupCopyOEMInfW(path, beside, SPOST_PATH, 0, published, LETTERS, NULL, NULL)) {
        failed = GetLastError();
        put(L"It was not added.\r\n");
        return;
    }
    if (!stored(path, folder)) {
        failed = ERROR_FILE_NOT_FOUND;
        return;
    }
    do wsprintfW(name, L"oem%d.inf", number++); while (told(NAMES, name, beside));
    set(NAMES, name, folder);
    set(PACKAGES, folder, name);
    lstrcatW(folder, L"\\Published");
    set(PACKAGES, folder, file_of(published));
    added_count++;
    put(L"It was added.\r\nPublished name: ");
    put(name);
    put(L"\r\n");
}

static void add_all(const WCHAR *folder, const WCHAR *pattern)
{
    WCHAR path[LETTERS];
    WIN32_FIND_DATAW data;
    HANDLE search;
    if (!join(path, folder, pattern)) return;
    search = FindFirstFileW(path, &data);
    if (search != INVALID_HANDLE_VALUE) {
        do if (!(data.dwFileAttributes & FILE_ATTRIBUTE_DIRECTORY) && join(path, folder, data.cFileName)) add(path);
        while (FindNextFileW(search, &data));
        FindClose(search);
    }
    if (!subdirs || !join(path, folder, L"*")) return;
    search = FindFirstFileW(path, &data);
    if (search == INVALID_HANDLE_VALUE) return;
    do if ((data.dwFileAttributes & FILE_ATTRIBUTE_DIRECTORY) && data.cFileName[0] != '.' && join(path, folder, data.cFileName)) {
        lstrcatW(path, L"\\");
        add_all(path, pattern);
    } while (FindNextFileW(search, &data));
    FindClose(search);
}

static void empty(const WCHAR *folder)
{
    WCHAR path[LETTERS];
    WIN32_FIND_DATAW data;
    HANDLE search;
    if (!join(path, folder, L"\\*")) return;
    search = FindFirstFileW(path, &data);
    if (search == INVALID_HANDLE_VALUE) return;
    do {
        if (data.cFileName[0] == '.' || !join(path, folder, L"\\") || lstrlenW(path) + lstrlenW(data.cFileName) >= LETTERS) continue;
        lstrcatW(path, data.cFileName);
        if (data.dwFileAttributes & FILE_ATTRIBUTE_DIRECTORY) empty(path);
        else DeleteFileW(path);
    } while (FindNextFileW(search, &data));
    FindClose(search);
    RemoveDirectoryW(folder);
}

/* The layer forgets where it put a driver whose name was taken already: then its files are removed here. */
static void remove_files(const WCHAR *folder, const WCHAR *published)
{
    WCHAR path[LETTERS], windows[MAX_PATH];
    int length;
    GetWindowsDirectoryW(windows, MAX_PATH);
    if (!join(path, windows, STORE) || lstrlenW(path) + lstrlenW(folder) >= LETTERS) return;
    lstrcatW(path, folder);
    empty(path);
    if (!join(path, windows, L"\\inf\\") || lstrlenW(path) + lstrlenW(published) >= LETTERS) return;
    lstrcatW(path, published);
    DeleteFileW(path);
    length = lstrlenW(path);
    if (length > 4) {
        lstrcpyW(path + length - 4, L".pnf");
        DeleteFileW(path);
    }
}

static DWORD take_out(const WCHAR *name)
{
    WCHAR folder[LETTERS], inner[LETTERS], published[LETTERS];
    if (!told(NAMES, name, folder) || !join(inner, folder, L"\\Published") || !told(PACKAGES, inner, published)) {
        put(L"The store has no such driver.\r\n");
        return 0xE000023C;
    }
    if (!SetupUninstallOEMInfW(published, SUOI_FORCEDELETE, NULL)) {
        if (GetLastError() != ERROR_FILE_NOT_FOUND) return GetLastError();
        remove_files(folder, published);
    }
    forget(PACKAGES, inner);
    forget(PACKAGES, folder);
    forget(NAMES, name);
    put(L"It was taken out of the store.\r\n");
    return 0;
}

static void list(void)
{
    WCHAR name[256], folder[LETTERS];
    HKEY key = opened(NAMES);
    DWORD at = 0, size = 256;
    while (RegEnumKeyExW(key, at++, name, &size, NULL, NULL, NULL, NULL) == ERROR_SUCCESS) {
        if (told(NAMES, name, folder)) {
            put(L"Published name: ");
            put(name);
            put(L"\r\nIn the store as: ");
            put(folder);
            put(L"\r\n\r\n");
        }
        size = 256;
    }
    RegCloseKey(key);
}

void start(void)
{
    WCHAR *words = GetCommandLineW(), *word, *arguments[16], folder[LETTERS], full[LETTERS];
    int count = 0, quoted, at;
    DWORD code = ERROR_INVALID_PARAMETER;
    out = GetStdHandle(STD_OUTPUT_HANDLE);
    while (*words && count < 16) {
        while (*words == ' ' || *words == '\t') words++;
        if (!*words) break;
        word = arguments[count++] = words;
        for (quoted = 0; *words && (quoted || (*words != ' ' && *words != '\t')); words++) {
            if (*words == '"') quoted = !quoted;
            else *word++ = *words;
        }
        if (*words) words++;
        *word = 0;
    }
    for (at = 2; at < count; at++) if (same(arguments[at], L"/subdirs")) subdirs = 1;
    if (count > 2 && same(arguments[1], L"/add-driver")) {
        if (GetFullPathNameW(arguments[2], LETTERS, full, NULL) && lstrlenW(full) < LETTERS) {
            lstrcpyW(folder, full);
            folder[file_of(full) - full] = 0;
            add_all(folder, file_of(full));
        }
        code = added_count ? 0 : failed ? failed : found_count ? 259 : ERROR_FILE_NOT_FOUND;
    } else if (count > 2 && same(arguments[1], L"/delete-driver")) {
        code = take_out(arguments[2]);
    } else if (count > 1 && same(arguments[1], L"/enum-drivers")) {
        list();
        code = 0;
    }
    ExitProcess(code);
}
