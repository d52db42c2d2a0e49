/* The demo's second vendor program: Tidewell Sounder, and its own setup.
 *
 * One program with four faces, by its own name and its arguments:
 *   sounder-setup.exe              shows a window; "/unattended" does without; "/silent" only turns a sound off
 *   sounder-worker.exe /place      does the work after the setup has returned (with 3010: it wants a restart)
 *   remove.exe                     the uninstaller; shows a window unless "/unattended"
 *   sounder-worker.exe /take-away  does the removal
 *   sounder.exe                    the program itself; "/settings" asks whether it may look for updates, and nothing else sets that
 */
#define CINTERFACE
#define COBJMACROS
#include <windows.h>
#include <shlobj.h>

static WCHAR folder[MAX_PATH], self[MAX_PATH], scratch[MAX_PATH];
static const WCHAR product[] = L"Software\\Tidewell\\Sounder";
static const WCHAR entry[] = L"Software\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\TidewellSounder";
static const WCHAR usage[] =
    L"Switches of this setup:\n\n/unattended\tplaces Sounder without asking\n/silent\tno sound while depths are tried\n/folder=...\twhere Sounder goes";
static const GUID shell_link = { 0x00021401, 0, 0, { 0xC0, 0, 0, 0, 0, 0, 0, 0x46 } };
static const GUID link_face = { 0x000214F9, 0, 0, { 0xC0, 0, 0, 0, 0, 0, 0, 0x46 } };
static const GUID file_face = { 0x0000010B, 0, 0, { 0xC0, 0, 0, 0, 0, 0, 0, 0x46 } };
static const WCHAR *const links[] = { L"%ProgramData%\\Microsoft\\Windows\\Start Menu\\Programs\\Sounder.lnk", L"%PUBLIC%\\Desktop\\Sounder.lnk" };
static int agreed;
static const WCHAR *question, *button;

static int holds(const WCHAR *line, const WCHAR *word)
{
    int length = lstrlenW(word);
    for (; lstrlenW(line) >= length; line++)
        if (CompareStringW(LOCALE_INVARIANT, NORM_IGNORECASE, line, length, word, length) == CSTR_EQUAL) return 1;
    return 0;
}

static void join(WCHAR *out, const WCHAR *one, const WCHAR *other) { lstrcpyW(out, one); lstrcatW(out, other); }

static LRESULT CALLBACK window(HWND handle, UINT message, WPARAM word, LPARAM value)
{
    if (message == WM_COMMAND && (LOWORD(word) == IDOK || LOWORD(word) == IDCANCEL)) {
        agreed = LOWORD(word) == IDOK;
        DestroyWindow(handle);
        return 0;
    }
    if (message == WM_DESTROY) { PostQuitMessage(0); return 0; }
    return DefWindowProcW(handle, message, word, value);
}

static int ask(const WCHAR *title)
{
    WNDCLASSW class;
    MSG message;
    for (unsigned i = 0; i < sizeof class; i++) ((char *)&class)[i] = 0;
    class.lpfnWndProc = window;
    class.hInstance = GetModuleHandleW(NULL);
    class.hbrBackground = (HBRUSH)(COLOR_BTNFACE + 1);
    class.hCursor = LoadCursorW(NULL, (LPCWSTR)IDC_ARROW);
    class.lpszClassName = L"TidewellSetup";
    RegisterClassW(&class);
    HWND frame = CreateWindowW(class.lpszClassName, title, WS_CAPTION | WS_SYSMENU | WS_VISIBLE, 380, 240, 460, 220, NULL, NULL, class.hInstance, NULL);
    CreateWindowW(L"STATIC", question, WS_CHILD | WS_VISIBLE, 20, 20, 410, 110, frame, NULL, class.hInstance, NULL);
    CreateWindowW(L"BUTTON", button, WS_CHILD | WS_VISIBLE | BS_DEFPUSHBUTTON, 230, 145, 95, 28, frame, (HMENU)IDOK, class.hInstance, NULL);
    CreateWindowW(L"BUTTON", L"Cancel", WS_CHILD | WS_VISIBLE, 335, 145, 95, 28, frame, (HMENU)IDCANCEL, class.hInstance, NULL);
    UpdateWindow(frame);
    while (GetMessageW(&message, NULL, 0, 0) > 0) { TranslateMessage(&message); DispatchMessageW(&message); }
    return agreed;
}

static void text(const WCHAR *key, const WCHAR *name, const WCHAR *value)
{
    HKEY handle;
    if (RegCreateKeyExW(HKEY_LOCAL_MACHINE, key, 0, NULL, 0, KEY_WRITE, NULL, &handle, NULL)) return;
    RegSetValueExW(handle, name, 0, REG_SZ, (const BYTE *)value, 2 * lstrlenW(value) + 2);
    RegCloseKey(handle);
}

static void flag(const WCHAR *name, DWORD value)
{
    HKEY handle;
    if (RegCreateKeyExW(HKEY_LOCAL_MACHINE, product, 0, NULL, 0, KEY_WRITE, NULL, &handle, NULL)) return;
    RegSetValueExW(handle, name, 0, REG_DWORD, (const BYTE *)&value, sizeof value);
    RegCloseKey(handle);
}

static void shortcuts(const WCHAR *program)
{
    WCHAR path[MAX_PATH];
    IShellLinkW *made;
    IPersistFile *kept;
    CoInitialize(NULL);
    for (int i = 0; i < 2; i++) {
        if (CoCreateInstance(&shell_link, NULL, CLSCTX_INPROC_SERVER, &link_face, (void **)&made)) return;
        IShellLinkW_SetPath(made, program);
        IShellLinkW_SetDescription(made, L"Measures depths and keeps them");
        ExpandEnvironmentStringsW(links[i], path, MAX_PATH);
        if (!IShellLinkW_QueryInterface(made, &file_face, (void **)&kept)) {
            IPersistFile_Save(kept, path, TRUE);
            IPersistFile_Release(kept);
        }
        IShellLinkW_Release(made);
    }
}

static void in_folder(WCHAR *out, const WCHAR *name) { join(out, folder, name); }

static void place(void)
{
    WCHAR path[MAX_PATH], quoted[MAX_PATH];
    DWORD done;
    static const char chart[] = "Marrowby outer harbour\r\n4.2 m over the bar at low water\r\n";
    Sleep(2000); /* the work that the setup does not wait for */
    join(path, folder, L"");
    for (WCHAR *end = path + 3; *end; end++) if (*end == L'\\') { *end = 0; CreateDirectoryW(path, NULL); *end = L'\\'; }
    CreateDirectoryW(path, NULL);
    in_folder(path, L"\\charts");
    CreateDirectoryW(path, NULL);
    in_folder(path, L"\\charts\\outer-harbour.chart");
    HANDLE file = CreateFileW(path, GENERIC_WRITE, 0, NULL, CREATE_ALWAYS, 0, NULL);
    WriteFile(file, chart, sizeof chart - 1, &done, NULL);
    CloseHandle(file);
    in_folder(path, L"\\sounder.exe");
    CopyFileW(self, path, FALSE);
    shortcuts(path);
    flag(L"Updates", 1);
    in_folder(path, L"\\remove.exe");
    CopyFileW(self, path, FALSE);
    lstrcpyW(quoted, L"\"");
    lstrcatW(quoted, path);
    lstrcatW(quoted, L"\"");
    text(product, L"Version", L"3.0.1");
    text(product, L"Folder", folder);
    text(entry, L"DisplayName", L"Tidewell Sounder");
    text(entry, L"DisplayVersion", L"3.0.1");
    text(entry, L"Publisher", L"Tidewell");
    text(entry, L"UninstallString", quoted);
}

static void take_away(void)
{
    static const WCHAR *names[] = { L"\\charts\\outer-harbour.chart", L"\\sounder.exe", L"\\remove.exe", NULL };
    WCHAR path[MAX_PATH];
    Sleep(1200);
    for (int i = 0; names[i]; i++) {
        in_folder(path, names[i]);
        for (int again = 0; again < 50 && !DeleteFileW(path) && GetLastError() != ERROR_FILE_NOT_FOUND && GetLastError() != ERROR_PATH_NOT_FOUND; again++) Sleep(100);
    }
    for (int i = 0; i < 2; i++) {
        ExpandEnvironmentStringsW(links[i], path, MAX_PATH);
        DeleteFileW(path);
    }
    in_folder(path, L"\\charts");
    RemoveDirectoryW(path);
    RemoveDirectoryW(folder);
    for (WCHAR *end = folder + lstrlenW(folder); end > folder; end--) if (*end == L'\\') { *end = 0; break; }
    RemoveDirectoryW(folder); /* the vendor's own folder, when nothing else of his is in it */
    RegDeleteKeyW(HKEY_LOCAL_MACHINE, entry);
    RegDeleteKeyW(HKEY_LOCAL_MACHINE, product);
    RegDeleteKeyW(HKEY_LOCAL_MACHINE, L"Software\\Tidewell");
}

static void hand_on(const WCHAR *task)
{
    WCHAR path[MAX_PATH], line[2 * MAX_PATH];
    STARTUPINFOW info;
    PROCESS_INFORMATION child;
    for (unsigned i = 0; i < sizeof info; i++) ((char *)&info)[i] = 0;
    info.cb = sizeof info;
    join(path, scratch, L"sounder-worker.exe");
    CopyFileW(self, path, FALSE);
    lstrcpyW(line, L"\"");
    lstrcatW(line, path);
    lstrcatW(line, L"\" ");
    lstrcatW(line, task);
    CreateProcessW(NULL, line, NULL, NULL, FALSE, 0, NULL, NULL, &info, &child);
}

void start(void)
{
    const WCHAR *line = GetCommandLineW();
    WCHAR *name;
    GetModuleFileNameW(NULL, self, MAX_PATH);
    GetTempPathW(MAX_PATH, scratch);
    name = self + lstrlenW(self);
    while (name > self && name[-1] != L'\\') name--;
    ExpandEnvironmentStringsW(L"%ProgramW6432%\\Tidewell\\Sounder", folder, MAX_PATH);
    if (folder[0] == L'%') ExpandEnvironmentStringsW(L"%ProgramFiles%\\Tidewell\\Sounder", folder, MAX_PATH);
    if (holds(name, L"sounder-worker")) {
        if (holds(line, L"/take-away")) take_away();
        else place();
        ExitProcess(0);
    }
    if (holds(name, L"remove")) {
        question = L"Sounder and its charts will be removed from this computer.\n\nThis cannot be undone.";
        button = L"Remove";
        if (!holds(line, L" /unattended") && !ask(L"Remove Tidewell Sounder")) ExitProcess(1602);
        hand_on(L"/take-away");
        ExitProcess(0);
    }
    if (holds(name, L"setup")) {
        if (holds(line, L" /help")) { MessageBoxW(NULL, usage, L"Tidewell Sounder 3.0.1", MB_OK); ExitProcess(0); }
        question = L"This sets up Tidewell Sounder 3.0.1, which measures depths and keeps them.\n\nClose other programs before you go on.";
        button = L"Install";
        if (!holds(line, L" /unattended") && !ask(L"Tidewell Sounder 3.0.1 Setup")) ExitProcess(1602);
        hand_on(L"/place");
        ExitProcess(3010);
    }
    if (holds(line, L" /settings")) {
        flag(L"Updates", MessageBoxW(NULL, L"May Sounder look for updates when it starts?", L"Tidewell Sounder settings", MB_YESNO) == IDYES);
        ExitProcess(0);
    }
    MessageBoxW(NULL, L"4.2 m", L"Tidewell Sounder", MB_OK);
    ExitProcess(0);
}
