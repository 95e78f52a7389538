/* The python.exe of an environment on Windows, as CPython documents it (PEP 405; "venv", PC/launcher.c): read "home" from
   the pyvenv.cfg beside or above this program, start the python.exe there with the same words, wait, end with its status. */
#include <windows.h>
#include <stdio.h>
#include <wchar.h>

static wchar_t self[4096], folder[4096], settings[4096], home[4096], target[8192], command[32768];

static int read_home(void)
{
    wchar_t line[4096];
    FILE *file = _wfopen(settings, L"r, ccs=UTF-8");
    if (!file) return 0;
    while (fgetws(line, 4096, file)) {
        wchar_t *key = line, *value = wcschr(line, L'=');
        if (!value) continue;
        while (*key == L' ') key++;
        if (_wcsnicmp(key, L"home", 4) || (key[4] != L' ' && key[4] != L'=')) continue;
        for (value++; *value == L' '; value++) {}
        wcscpy(home, value);
        for (size_t n = wcslen(home); n && wcschr(L"\r\n ", home[n - 1]); n--) home[n - 1] = 0;
    }
    fclose(file);
    return 1;
}

int wmain(void)
{
    GetModuleFileNameW(NULL, self, 4096);
    wcscpy(folder, self);
    *wcsrchr(folder, L'\\') = 0;
    swprintf(settings, 4096, L"%ls\\pyvenv.cfg", folder);
    if (!read_home()) {
        wchar_t *last = wcsrchr(settings, L'\\');
        *last = 0;
        last = wcsrchr(settings, L'\\');
        if (last) *last = 0;
        wcscat(settings, L"\\pyvenv.cfg");
        if (!read_home()) { fwprintf(stderr, L"No pyvenv.cfg file\n"); return 106; }
    }
    swprintf(target, 8192, L"%ls\\python.exe", home);
    SetEnvironmentVariableW(L"__PYVENV_LAUNCHER__", self);
    wchar_t *rest = GetCommandLineW();
    if (*rest == L'"') { rest++; while (*rest && *rest != L'"') rest++; if (*rest) rest++; }
    else while (*rest && *rest != L' ') rest++;
    swprintf(command, 32768, L"\"%ls\"%ls", target, rest);

    STARTUPINFOW start; PROCESS_INFORMATION child; JOBOBJECT_EXTENDED_LIMIT_INFORMATION limits;
    HANDLE job = CreateJobObjectW(NULL, NULL);
    memset(&limits, 0, sizeof limits);
    limits.BasicLimitInformation.LimitFlags = JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE | JOB_OBJECT_LIMIT_SILENT_BREAKAWAY_OK;
    SetInformationJobObject(job, JobObjectExtendedLimitInformation, &limits, sizeof limits);
    GetStartupInfoW(&start);
    for (int tries = 1; !CreateProcessW(target, command, NULL, NULL, TRUE, 0, NULL, NULL, &start, &child); tries++) {
        DWORD error = GetLastError();
        /* Wine gives this error now and then where other programs are being started too; Windows does not. */
        if (error == ERROR_INTERNAL_ERROR && tries < 10) { Sleep(50 * tries); continue; }
        fwprintf(stderr, L"Unable to create process using '%ls' (%lu)\n", command, error);
        return 101;
    }
    AssignProcessToJobObject(job, child.hProcess);
    SetConsoleCtrlHandler(NULL, TRUE);
    WaitForSingleObject(child.hProcess, INFINITE);
    DWORD status;
    GetExitCodeProcess(child.hProcess, &status);
    return status;
}
