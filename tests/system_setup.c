/* A stand-in for the setup of the system's own media, as its documentation tells of it: a trial, a first phase that
   shows how far it is, a restart at whose end the machine has another build, or has gone back. C:\setup-says.txt says
   how it goes, in words: held, code HEX, slow SECONDS, host SECONDS, start SECONDS, back 0xPOOOO, edition. */
#include <windows.h>

static char says[4096], line[4096], own[MAX_PATH];

static const char *after(const char *text, const char *word)
{
    int length = lstrlenA(word);
    for (; lstrlenA(text) >= length; text++)
        if (CompareStringA(LOCALE_INVARIANT, NORM_IGNORECASE, text, length, word, length) == CSTR_EQUAL)
            return text + length;
    return 0;
}

static unsigned number(const char *text, unsigned base)
{
    unsigned value = 0;
    for (; text && *text; text++) {
        int digit = *text >= '0' && *text <= '9' ? *text - '0' : (*text | 32) >= 'a' && (*text | 32) <= 'f' ? (*text | 32) - 'a' + 10 : 99;
        if (digit >= (int)base)
            break;
        value = value * base + digit;
    }
    return value;
}

static void put(const char *path, const char *text, DWORD how)
{
    DWORD done;
    HANDLE file = CreateFileA(path, FILE_APPEND_DATA, FILE_SHARE_READ, NULL, how, 0, NULL);
    WriteFile(file, text, lstrlenA(text), &done, NULL);
    CloseHandle(file);
}

static void set(const char *key, const char *name, DWORD kind, const void *data, DWORD size)
{
    HKEY made;
    if (RegCreateKeyExA(HKEY_LOCAL_MACHINE, key, 0, NULL, 0, KEY_WRITE | KEY_WOW64_64KEY, NULL, &made, NULL) == 0) {
        RegSetValueExA(made, name, 0, kind, data, size);
        RegCloseKey(made);
    }
}

static void set_text(const char *key, const char *name, const char *text) { set(key, name, REG_SZ, text, lstrlenA(text) + 1); }
static void set_number(const char *key, const char *name, DWORD value) { set(key, name, REG_DWORD, &value, 4); }

static void start_with(const char *program, const char *words)
{
    static char whole[8192];
    STARTUPINFOA how;
    PROCESS_INFORMATION ran;
    char *at = (char *)&how;
    for (unsigned i = 0; i < sizeof how; i++)
        at[i] = 0;
    how.cb = sizeof how;
    lstrcpyA(whole, "\"");
    lstrcatA(whole, program);
    lstrcatA(whole, "\" ");
    lstrcatA(whole, words);
    CreateProcessA(NULL, whole, NULL, NULL, FALSE, DETACHED_PROCESS, NULL, NULL, &how, &ran);
}

static void finish(void)
{
    const char *current = "Software\\Microsoft\\Windows NT\\CurrentVersion";
    const char *back = after(says, "back ");
    static char text[256];
    if (back) {
        CreateDirectoryA("C:\\$WINDOWS.~BT", NULL);
        CreateDirectoryA("C:\\$WINDOWS.~BT\\Sources", NULL);
        CreateDirectoryA("C:\\$WINDOWS.~BT\\Sources\\Rollback", NULL);
        lstrcpyA(text, "2026-11-30 10:00:00, Info MOUPG result 0x80070002 and nothing else\r\n2026-11-30 10:00:01, Error MOUPG  Result = 0xC1900101, extend = ");
        lstrcatA(text, back);
        put("C:\\$WINDOWS.~BT\\Sources\\Rollback\\setupact.log", text, CREATE_ALWAYS);
    } else {
        set_text(current, "CurrentBuild", "26100");
        set_text(current, "CurrentBuildNumber", "26100");
        set_number(current, "UBR", 1742);
        if (after(says, "edition"))
            set_text(current, "EditionID", "Other");
    }
    set_number("System\\Setup", "SystemSetupInProgress", 0);
}

void start(void)
{
    DWORD got = 0;
    lstrcpynA(line, GetCommandLineA(), sizeof line);
    GetModuleFileNameA(NULL, own, sizeof own);
    HANDLE answer = CreateFileA("C:\\setup-says.txt", GENERIC_READ, FILE_SHARE_READ, NULL, OPEN_EXISTING, 0, NULL);
    if (answer != INVALID_HANDLE_VALUE)
        ReadFile(answer, says, sizeof says - 1, &got, NULL);
    put("C:\\setup-lines.txt", line, OPEN_ALWAYS);
    put("C:\\setup-lines.txt", "\r\n", OPEN_ALWAYS);
    if (after(line, "/linger")) {
        Sleep(1000 * number(after(says, "host "), 10));
        ExitProcess(0);
    }
    if (after(line, "/later")) {
        Sleep(1000 * number(after(says, "start "), 10));
        finish();
        ExitProcess(0);
    }
    if (after(line, "/finish")) {
        if (after(says, "start ")) {
            set_number("System\\Setup", "SystemSetupInProgress", 1);
            start_with(own, "/later");
        } else
            finish();
        ExitProcess(0);
    }
    if (after(line, "scanonly")) {
        if (!after(says, "held"))
            ExitProcess(0xC1900210);
        CreateDirectoryA("C:\\$WINDOWS.~BT", NULL);
        CreateDirectoryA("C:\\$WINDOWS.~BT\\Sources", NULL);
        CreateDirectoryA("C:\\$WINDOWS.~BT\\Sources\\Panther", NULL);
        put("C:\\$WINDOWS.~BT\\Sources\\Panther\\CompatData_2026_11_30.xml",
            "<?xml version=\"1.0\"?><CompatReport><Hardware><HardwareItem HardwareType=\"Setup_Disk\"><CompatibilityInfo BlockingType=\"None\"/></HardwareItem></Hardware>"
            "<Programs><Program Id=\"7\" Name=\"Tidewell Disk Guard\">\r\n  <CompatibilityInfo StatusDetail=\"UpgradeBlock\" BlockingType=\"Hard\"/></Program></Programs></CompatReport>", CREATE_ALWAYS);
        ExitProcess(0xC1900208);
    }
    for (DWORD percent = 10; percent <= 90; percent += 40) {
        set_number("System\\Setup\\MoSetup\\Volatile", "SetupProgress", percent);
        Sleep(1300);
    }
    Sleep(1000 * number(after(says, "slow "), 10));
    if (after(says, "code "))
        ExitProcess(number(after(says, "code "), 16));
    static char later[1024];
    lstrcpyA(later, "\"");
    lstrcatA(later, own);
    lstrcatA(later, "\" /finish");
    set_text("Software\\Microsoft\\Windows\\CurrentVersion\\RunServicesOnce", "system setup", later);
    if (after(says, "host ")) {
        CopyFileA(own, "C:\\SetupHost.exe", FALSE);
        start_with("C:\\SetupHost.exe", "/linger");
    }
    ExitProcess(0);
}
