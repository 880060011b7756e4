
goto :eof

:find
rem Set CLONE to the disk of identifier %1 whose size list disk shows as %2.
set CLONE=
set FOUND=0
for /l %%i in (0,1,15) do call :look %%i %1 %2
if "%FOUND%"=="1" exit /b 0
exit /b 1

:look
>"%TEMP%\ask.txt" echo select disk %1
>>"%TEMP%\ask.txt" echo uniqueid disk
>>"%TEMP%\ask.txt" echo list disk
diskpart /s "%TEMP%\ask.txt" > "%TEMP%\answer.txt"
rem The disk in focus has a star before it.
type nul > "%TEMP%\line.txt"
for /f "usebackq tokens=1,*" %%a in ("%TEMP%\answer.txt") do if "%%a"=="*" >"%TEMP%\line.txt" echo %%b
find " %~3" "%TEMP%\line.txt" > nul
if errorlevel 1 exit /b 0
set SAME=
if %2=="" set SAME=1
for /f "usebackq tokens=2 delims=:" %%a in ("%TEMP%\answer.txt") do call :same "%%a" %2
if not defined SAME exit /b 0
set CLONE=%1
set /a FOUND+=1
exit /b 0

:part
rem Set PART to the partition of disk CLONE that begins at byte %1.
set PART=
for /l %%i in (1,1,32) do call :begins %%i %1
if defined PART exit /b 0
exit /b 1

:begins
>"%TEMP%\ask.txt" echo select disk %CLONE%
>>"%TEMP%\ask.txt" echo select partition %1
>>"%TEMP%\ask.txt" echo detail partition
diskpart /s "%TEMP%\ask.txt" > "%TEMP%\answer.txt"
set SAME=
for /f "usebackq tokens=2 delims=:" %%a in ("%TEMP%\answer.txt") do call :same "%%a" "%2"
if defined SAME set PART=%1
exit /b 0

:same
for /f "tokens=1" %%b in (%1) do if /i "%%b"==%2 set SAME=1
exit /b 0
