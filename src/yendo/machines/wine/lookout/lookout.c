/* Starts a command line in a job and reports, a line an event, what becomes of it:
 *
 *   P <ms> <process> <parent> <name>        a process of the job was seen first
 *   D <ms> <process>                        it is gone
 *   M <ms> <exit code>                      the first process ended
 *   W <ms> <window> <process> <x> <y> <width> <height> <class> <title> <texts>    a window is shown (again when its texts change)
 *   H <ms> <window>                         it is gone
 *   B <ms> <window> <button>                a button was pressed (only when asked to)
 *   E <ms>                                  every process of the job has ended
 *   X <ms> <error>                          the command could not be started
 *
 * Names and texts are UTF-8 in hexadecimal; the texts of a window's controls are separated by 0x1F.
 * Call: lookout.exe <press: 0 or 1> <command line>. It is ended from outside where time runs out: the job ends with it.
 */
#include <windows.h>
#include <tlhelp32.h>

#define MOST 512
#define LONGEST 4096

struct window { HWND handle; DWORD process; unsigned hash, pressed, looked; int alive; };
struct process { DWORD id; int alive, named; };

static struct window windows[MOST];
static struct process processes[MOST];
static int window_count, process_count, press;
static DWORD begun;
static HANDLE out;
static DWORD job_ids[MOST + 2];
static int job_count;

static void put(const char *text)
{
    DWORD done;
    WriteFile(out, text, lstrlenA(text), &done, NULL);
}

static char line[8 * LONGEST];
static int at;

static void add(const char *text) { while (*text && at < (int)sizeof line - 4) line[at++] = *text++; }
static void number(DWORD value) { char text[16]; wsprintfA(text, " %u", value); add(text); }
static void signed_number(int value) { char text[16]; wsprintfA(text, " %d", value); add(text); }

static void hex(const WCHAR *text)
{
    static char bytes[3 * LONGEST];
    static const char digits[] = "0123456789abcdef";
    int count = WideCharToMultiByte(CP_UTF8, 0, text, -1, bytes, sizeof bytes, NULL, NULL) - 1;
    add(" ");
    if (count <= 0) { add("-"); return; }
    for (int i = 0; i < count && at < (int)sizeof line - 4; i++) {
        line[at++] = digits[(unsigned char)bytes[i] >> 4];
        line[at++] = digits[(unsigned char)bytes[i] & 15];
    }
}

static void begin(const char *kind) { at = 0; add(kind); number(GetTickCount() - begun); }
static void end(void) { line[at++] = '\n'; line[at] = 0; put(line); }

static int in_job(DWORD id)
{
    for (int i = 0; i < job_count; i++) if (job_ids[i] == id) return 1;
    return 0;
}

static WCHAR texts[LONGEST];
static int texts_length;

static BOOL CALLBACK control(HWND handle, LPARAM unused)
{
    WCHAR one[512];
    DWORD_PTR length = 0;
    one[0] = 0;
    if (!IsWindowVisible(handle)) return TRUE;
    if (!SendMessageTimeoutW(handle, WM_GETTEXT, 511, (LPARAM)one, SMTO_ABORTIFHUNG, 100, &length) || !one[0]) return TRUE;
    if (texts_length + lstrlenW(one) + 2 >= LONGEST) return FALSE;
    if (texts_length) texts[texts_length++] = 0x1F;
    lstrcpyW(texts + texts_length, one);
    texts_length += lstrlenW(one);
    return TRUE;
}

static unsigned hash_of(const WCHAR *text, unsigned seed)
{
    while (*text) seed = seed * 31 + *text++;
    return seed;
}

/* The button that a person would press who agrees to everything, the best word first; never one that goes back or gives up. */
static const WCHAR *agreeing[] = { L"next", L"install", L"i agree", L"agree", L"accept", L"yes", L"continue", L"ok", L"finish", L"close", L"done", NULL };
static HWND chosen, consent;
static int best;

static int begins(const WCHAR *text, const WCHAR *word)
{
    while (*word) if (*text++ != *word++) return 0;
    return !(*text >= L'a' && *text <= L'z');
}

static int holds(const WCHAR *text, const WCHAR *word)
{
    for (; *text; text++) if (begins(text, word)) return 1;
    return 0;
}

static BOOL CALLBACK button(HWND handle, LPARAM unused)
{
    WCHAR name[128], *from, *to;
    DWORD_PTR length = 0, checked = 0;
    int i;
    if (!IsWindowVisible(handle) || !IsWindowEnabled(handle) || !GetClassNameW(handle, name, 15) || lstrcmpiW(name, L"Button")) return TRUE;
    name[0] = 0;
    SendMessageTimeoutW(handle, WM_GETTEXT, 127, (LPARAM)name, SMTO_ABORTIFHUNG, 100, &length);
    for (from = to = name; *from; from++) if (*from != L'&') *to++ = *from;
    *to = 0;
    CharLowerW(name);
    DWORD kind = GetWindowLongW(handle, GWL_STYLE) & BS_TYPEMASK;
    if (kind == BS_PUSHBUTTON || kind == BS_DEFPUSHBUTTON) {
        for (i = 0; agreeing[i]; i++)
            if (i < best && begins(name, agreeing[i])) { best = i; chosen = handle; }
    } else if (kind != BS_GROUPBOX && (holds(name, L"accept") || holds(name, L"agree")) && !holds(name, L"not") && !holds(name, L"don't")) {
        SendMessageTimeoutW(handle, BM_GETCHECK, 0, 0, SMTO_ABORTIFHUNG, 100, &checked);
        if (checked != BST_CHECKED) consent = handle;
    }
    return TRUE;
}

/* A field that is asked for and empty keeps the button that goes on from being pressed. */
static BOOL CALLBACK field(HWND handle, LPARAM unused)
{
    WCHAR name[16];
    DWORD_PTR length = 0, done;
    if (!IsWindowVisible(handle) || !IsWindowEnabled(handle) || !GetClassNameW(handle, name, 15) || lstrcmpiW(name, L"Edit")) return TRUE;
    if (GetWindowLongW(handle, GWL_STYLE) & ES_READONLY) return TRUE;
    if (!SendMessageTimeoutW(handle, WM_GETTEXTLENGTH, 0, 0, SMTO_ABORTIFHUNG, 100, &length) || length) return TRUE;
    SendMessageTimeoutW(handle, WM_SETTEXT, 0, (LPARAM)L"trial", SMTO_ABORTIFHUNG, 100, &done);
    PostMessageW(GetParent(handle), WM_COMMAND, MAKEWPARAM(GetDlgCtrlID(handle), EN_CHANGE), (LPARAM)handle);
    return TRUE;
}

static BOOL CALLBACK window(HWND handle, LPARAM unused)
{
    DWORD id = 0;
    RECT place;
    WCHAR title[512], class[128];
    int i;
    GetWindowThreadProcessId(handle, &id);
    if (!in_job(id) || !IsWindowVisible(handle)) return TRUE;
    for (i = 0; i < window_count && windows[i].handle != handle; i++);
    if (i < window_count && GetTickCount() - windows[i].looked < 500) { /* asking too often would be work for the program */
        windows[i].alive = 1;
        return TRUE;
    }
    GetWindowRect(handle, &place);
    title[0] = class[0] = texts[0] = 0;
    texts_length = 0;
    GetClassNameW(handle, class, 127);
    DWORD_PTR length;
    SendMessageTimeoutW(handle, WM_GETTEXT, 511, (LPARAM)title, SMTO_ABORTIFHUNG, 100, &length);
    EnumChildWindows(handle, control, 0);
    unsigned hash = hash_of(texts, hash_of(title, 7));
    if (i == window_count) {
        if (window_count == MOST) return FALSE;
        window_count++;
        windows[i].handle = handle;
        windows[i].process = id;
        windows[i].hash = hash + 1;
        windows[i].pressed = 0;
    }
    windows[i].alive = 1;
    windows[i].looked = GetTickCount();
    if (windows[i].hash != hash) {
        windows[i].hash = hash;
        begin("W");
        number((DWORD)(ULONG_PTR)handle); number(id);
        signed_number(place.left); signed_number(place.top);
        signed_number(place.right - place.left); signed_number(place.bottom - place.top);
        hex(class); hex(title); hex(texts);
        end();
    }
    if (press && GetTickCount() - windows[i].pressed > 1500) {
        chosen = consent = NULL;
        best = 1000;
        EnumChildWindows(handle, button, 0);
        if (consent) chosen = consent; /* a licence is agreed to first; the button that goes on comes next time */
        if (!chosen) {
            windows[i].pressed = GetTickCount();
            EnumChildWindows(handle, field, 0);
        }
        if (chosen) {
            WCHAR name[64];
            windows[i].pressed = GetTickCount();
            name[0] = 0;
            SendMessageTimeoutW(chosen, WM_GETTEXT, 63, (LPARAM)name, SMTO_ABORTIFHUNG, 100, &length);
            begin("B"); number((DWORD)(ULONG_PTR)handle); hex(name); end();
            PostMessageW(chosen, BM_CLICK, 0, 0);
        }
    }
    return TRUE;
}

static void look_at_processes(HANDLE job)
{
    static DWORD told, tries;
    static struct { DWORD assigned, listed; ULONG_PTR ids[MOST]; } list;
    int i, j;
    job_count = 0;
    if (QueryInformationJobObject(job, JobObjectBasicProcessIdList, &list, sizeof list, NULL))
        for (i = 0; i < (int)list.listed && i < MOST; i++) job_ids[job_count++] = (DWORD)list.ids[i];
    for (i = 0; i < process_count; i++)
        if (processes[i].alive && !in_job(processes[i].id)) {
            processes[i].alive = 0;
            begin("D"); number(processes[i].id); end();
        }
    for (i = 0; i < job_count; i++) {
        for (j = 0; j < process_count && !(processes[j].id == job_ids[i] && processes[j].alive); j++);
        if (j < process_count && processes[j].named) continue;
        if (j == process_count) {
            if (process_count == MOST) continue;
            process_count++;
            processes[j].id = job_ids[i];
            processes[j].alive = 1;
            processes[j].named = 0;
        }
        PROCESSENTRY32W entry;
        HANDLE all = CreateToolhelp32Snapshot(TH32CS_SNAPPROCESS, 0);
        entry.dwSize = sizeof entry;
        DWORD parent = 0;
        WCHAR name[MAX_PATH] = { 0 };
        for (BOOL more = Process32FirstW(all, &entry); more; more = Process32NextW(all, &entry))
            if (entry.th32ProcessID == job_ids[i]) { parent = entry.th32ParentProcessID; lstrcpynW(name, entry.szExeFile, MAX_PATH); }
        CloseHandle(all);
        processes[j].named = name[0] != 0 || ++tries > 200; /* a process that has just begun may not be listed yet */
        if (!name[0] && !processes[j].named && told == job_ids[i]) continue;
        told = job_ids[i];
        begin("P"); number(job_ids[i]); number(parent); hex(name); end();
    }
}

static void look_at_windows(void)
{
    int i;
    for (i = 0; i < window_count; i++) windows[i].alive = 0;
    EnumWindows(window, 0);
    for (i = 0; i < window_count; i++)
        if (!windows[i].alive) {
            begin("H"); number((DWORD)(ULONG_PTR)windows[i].handle); end();
            windows[i--] = windows[--window_count];
        }
}

void start(void)
{
    WCHAR *command = GetCommandLineW();
    int quoted = 0, ended = 0;
    out = GetStdHandle(STD_OUTPUT_HANDLE);
    GetDesktopWindow(); /* starts the program that owns the desktop, which must not count as a part of the run */
    SendMessageTimeoutW(GetDesktopWindow(), WM_NULL, 0, 0, SMTO_ABORTIFHUNG, 2000, NULL);
    begun = GetTickCount();
    for (; *command && (*command != L' ' || quoted); command++) if (*command == L'"') quoted = !quoted;
    while (*command == L' ') command++;
    press = *command++ == L'1';
    while (*command == L' ') command++;

    JOBOBJECT_EXTENDED_LIMIT_INFORMATION limits;
    STARTUPINFOW info;
    PROCESS_INFORMATION child;
    for (unsigned i = 0; i < sizeof limits; i++) ((char *)&limits)[i] = 0;
    for (unsigned i = 0; i < sizeof info; i++) ((char *)&info)[i] = 0;
    info.cb = sizeof info;
    HANDLE job = CreateJobObjectW(NULL, NULL);
    limits.BasicLimitInformation.LimitFlags = JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE;
    SetInformationJobObject(job, JobObjectExtendedLimitInformation, &limits, sizeof limits);
    if (!CreateProcessW(NULL, command, NULL, NULL, FALSE, CREATE_SUSPENDED | CREATE_NEW_PROCESS_GROUP, NULL, NULL, &info, &child)) {
        begin("X"); number(GetLastError()); end();
        ExitProcess(1);
    }
    AssignProcessToJobObject(job, child.hProcess);
    ResumeThread(child.hThread);
    for (;;) {
        look_at_processes(job);
        look_at_windows();
        if (!ended && WaitForSingleObject(child.hProcess, 0) == WAIT_OBJECT_0) {
            DWORD code = 0;
            GetExitCodeProcess(child.hProcess, &code);
            ended = 1;
            begin("M"); number(code); end();
        }
        if (ended && !job_count) break;
        Sleep(25);
    }
    begin("E"); end();
    ExitProcess(0);
}
