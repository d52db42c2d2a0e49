/* A stand-in for the system's task scheduler: /create keeps the line of /tr, /run starts it, /delete forgets it. It has
   room for one task, of a proof kit or of deliveries. */
#include <windows.h>

static const char *after(const char *line, const char *word)
{
    int length = lstrlenA(word);
    for (; lstrlenA(line) >= length; line++)
        if (CompareStringA(LOCALE_INVARIANT, 0, line, length, word, length) == CSTR_EQUAL)
            return line + length;
    return 0;
}

void start(void)
{
    static char task[4096];
    DWORD done = 0;
    const char *line = GetCommandLineA();
    if (!after(line, "Yendo\\proof\"") && !after(line, "Yendo\\fetch\""))
        ExitProcess(1);
    if (after(line, "/create")) {
        const char *from = after(line, "/tr \"");
        int to = 0;
        while (from && *from && to < 4000 && *from != '"') {
            if (from[0] == '\\' && from[1] == '"')
                from++;
            task[to++] = *from++;
        }
        HANDLE file = CreateFileA("C:\\task.txt", GENERIC_WRITE, 0, NULL, CREATE_ALWAYS, 0, NULL);
        WriteFile(file, task, to, &done, NULL);
        CloseHandle(file);
    } else if (after(line, "/run") && GetFileAttributesA("C:\\scheduler.txt") != INVALID_FILE_ATTRIBUTES) {
        /* somebody else starts it, so that it does not hang on whoever asked */
        CloseHandle(CreateFileA("C:\\task-run.txt", GENERIC_WRITE, 0, NULL, CREATE_ALWAYS, 0, NULL));
    } else if (after(line, "/run")) {
        STARTUPINFOA how;
        PROCESS_INFORMATION ran;
        char *at = (char *)&how;
        for (unsigned i = 0; i < sizeof how; i++)
            at[i] = 0;
        how.cb = sizeof how;
        HANDLE file = CreateFileA("C:\\task.txt", GENERIC_READ, FILE_SHARE_READ, NULL, OPEN_EXISTING, 0, NULL);
        if (file == INVALID_HANDLE_VALUE || !ReadFile(file, task, 4000, &done, NULL) || !done)
            ExitProcess(1);
        CloseHandle(file);
        if (!CreateProcessA(NULL, task, NULL, NULL, FALSE, 0, NULL, NULL, &how, &ran))
            ExitProcess(1);
    } else if (after(line, "/query")) {
        ExitProcess(GetFileAttributesA("C:\\task.txt") != INVALID_FILE_ATTRIBUTES ? 0 : 1);
    } else if (after(line, "/delete")) {
        ExitProcess(DeleteFileA("C:\\task.txt") ? 0 : 1);
    }
    ExitProcess(0);
}
