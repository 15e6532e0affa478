"""Start the window."""

from __future__ import annotations

import logging
import sys
import threading
import traceback
from importlib import resources
from pathlib import Path
from types import TracebackType

from PyQt6.QtCore import QTimer
from PyQt6.QtGui import QIcon, QSurfaceFormat
from PyQt6.QtWidgets import QApplication

from pegloom.app import texts
from pegloom.app.actions.common.file import offer_recovery, open_saved
from pegloom.app.theme import apply_theme
from pegloom.app.window import Window
from pegloom.files.reports import CrashReport, crashes, unforeseen, write_report

log = logging.getLogger("pegloom")


def set_up_gl() -> None:
    """OpenGL 3.3 core, no multisampling: lines antialias themselves, and a software renderer stays quick."""
    surface = QSurfaceFormat()
    surface.setVersion(3, 3)
    surface.setProfile(QSurfaceFormat.OpenGLContextProfile.CoreProfile)
    surface.setDepthBufferSize(24)
    surface.setSamples(0)
    QSurfaceFormat.setDefaultFormat(surface)


def make_application(arguments: list[str]) -> QApplication:
    """The application with its look, once."""
    set_up_gl()
    app = QApplication.instance() or QApplication(arguments)
    texts.begin()
    app.setApplicationName("Peg Loom")
    app.setDesktopFileName("pegloom")
    app.setWindowIcon(QIcon(str(resources.files("pegloom.assets") / "desktop" / "pegloom.svg")))
    app.setStyle("Fusion")
    apply_theme(app)
    return app


def catch_errors(window: Window) -> None:
    """An exception in a slot would abort the process; instead it is shown and logged, the document kept."""

    def hook(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        log.error("".join(traceback.format_exception(kind, error, trace)))
        window.store.drop_draft()
        text = unforeseen(error)
        window.c.say(f"{text[0].upper()}{text[1:]}; nothing is lost", error=True)

    def thread_hook(failure: threading.ExceptHookArgs) -> None:
        if failure.exc_value is not None:
            log.error("".join(traceback.format_exception(failure.exc_value)))
            write_report(failure.exc_value)

    sys.excepthook = hook
    threading.excepthook = thread_hook


def warm_up(window: Window) -> None:
    """Compile what is compiled at first use, off the UI thread, so that the first drag is smooth."""
    from pegloom.core.warm import warm

    threading.Thread(target=warm, daemon=True).start()
    window.c.jobs.helper.start()


def main(arguments: list[str], *, copy: bool = False) -> int:
    """Run the application; an argument names a file to open. copy : a project without its place, to be looked at beside another."""
    # Threads hand over quickly, so that numerical work does not make the window stutter.
    sys.setswitchinterval(0.0005)
    crash = CrashReport()
    app = make_application(arguments)
    window = Window()
    catch_errors(window)
    window.follow_desktop()
    window.show()
    window.activateWindow()
    warm_up(window)

    def begin() -> None:
        reports = crashes()
        if reports:
            window.c.say(f"The last time Peg Loom ended by a fault; its report is in {reports[-1]}", error=True)
        if copy:
            open_saved(window.c, Path(arguments[1]), copy=True, said="")
        elif not offer_recovery(window.c) and len(arguments) > 1:
            window.open_path(Path(arguments[1]))

    QTimer.singleShot(0, begin)
    code = int(app.exec())
    crash.end()
    return code
