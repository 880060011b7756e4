
goto :eof

:find
rem Set DISK to the disk of the identifier whose size list disk shows as the second word.
set DISK=
set FOUND=0
for /l %%i in (0,1,15) do call :look %%i "%~1" "%~2"
if "%FOUND%"=="1" exit /b 0
exit /b 1

:look
>"%TEMP%\ask.txt" echo select disk %1
>>"%TEMP%\ask.txt" echo uniqueid disk
>>"%TEMP%\ask.txt" echo list disk
diskpart /s "%TEMP%\ask.txt" > "%TEMP%\answer.txt"
rem The disk in focus has a star before it. What the answer holds is only looked
rem at by a tool, never by this interpreter: it has names from the disk in it.
findstr /r /c:"^\* .* %~3" "%TEMP%\answer.txt" > nul
if errorlevel 1 exit /b 0
if "%~2"=="" goto counted
findstr /i /r /c:": *%~2 *$" "%TEMP%\answer.txt" > nul
if errorlevel 1 exit /b 0
:counted
set DISK=%1
set /a FOUND+=1
exit /b 0

:part
rem Set PART to the partition of disk DISK that begins at a byte.
set PART=
for /l %%i in (1,1,32) do call :begins %%i %1
if defined PART exit /b 0
exit /b 1

:begins
>"%TEMP%\ask.txt" echo select disk %DISK%
>>"%TEMP%\ask.txt" echo select partition %1
>>"%TEMP%\ask.txt" echo detail partition
diskpart /s "%TEMP%\ask.txt" > "%TEMP%\answer.txt"
findstr /r /c:": *%~2 *$" "%TEMP%\answer.txt" > nul
if not errorlevel 1 set PART=%1
exit /b 0
