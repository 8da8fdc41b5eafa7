"""Help in place: a page for each view, the loop of work, the keyboard's shortcuts, and what this program is."""

from contextlib import suppress
from importlib.metadata import PackageNotFoundError, metadata
from pathlib import Path

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QTextDocument
from PyQt6.QtWidgets import QDialog, QHBoxLayout, QListWidget, QListWidgetItem, QTextBrowser, QWidget

from upright_bolt import __version__
from upright_bolt.desktop.shortcuts import SHORTCUTS
from upright_bolt.desktop.widgets.basic import column, foot_with_close

PAGES = {
    "loop": "The loop of work",
    "machine": "Machine",
    "workbench": "Workbench",
    "edge": "Edge",
    "compare": "Compare",
    "profiles": "Profiles",
    "shortcuts": "Keyboard",
    "about": "About",
}
FOLDER = Path(__file__).with_name("help")
SIZE = (780, 560)
LIST_W, ROW_PX = 160, 28


def page(name: str) -> str:
    """Return a page as Markdown."""
    made = {"shortcuts": _shortcuts, "about": _about}
    return made[name]() if name in made else (FOLDER / f"{name}.md").read_text(encoding="utf-8")


def _shortcuts() -> str:
    rows = "\n".join(f"| **{entry.keys}** | {entry.words} |" for entry in SHORTCUTS)
    return f"# Keyboard\n\n| Keys | |\n|:--|:--|\n{rows}\n"


REQUIRED = ("alembic", "google-re2", "inotify-simple", "jeepney", "jinja2", "matplotlib", "moderngl", "msgspec",
            "numpy", "platformdirs", "pydantic", "pyqt6", "pyqtgraph", "pyudev", "rich", "scipy", "sqlalchemy",
            "threadpoolctl", "tomlkit", "typer")  # fmt: skip
"""The libraries that the project's file asks for; a test holds the two together."""
LONGEST_LICENCE = 60


def _about() -> str:
    libraries = "\n".join(f"| {name} | {version} | {licence} |" for name, version, licence in libraries_used())
    return (
        f"# Upright Bolt {__version__}\n\nSets processor power limits, turbo, energy preference and voltages from "
        "Linux, and proves every change by measurement.\n\nFree software under the GNU General Public License, version "
        "3 or later: you may use, study, share and change it. It comes without any warranty.\n\n"
        f"It is built on these libraries:\n\n| Library | Version | Licence |\n|:--|:--|:--|\n{libraries}\n"
    )


def libraries_used() -> list[tuple[str, str, str]]:
    """Return name, version and licence of every library that is used, as their own records say."""
    found = []
    for name in REQUIRED:
        with suppress(PackageNotFoundError):
            known = metadata(name).json
            said = str(known.get("license_expression") or known.get("license") or "").strip()
            if not said or len(said) > LONGEST_LICENCE:  # some have the whole text there
                said = _classified(known.get("classifier", []))
            found.append((str(known["name"]), str(known["version"]), said or "not told"))
    return found


def _classified(classifiers: str | list[str]) -> str:
    licences = [entry.rsplit("::", 1)[-1].strip() for entry in classifiers if entry.startswith("License ::")]
    return ", ".join(licences)


class HelpDialog(QDialog):
    """The pages, chosen from a list. It does not hold the window up."""

    def __init__(self, parent: QWidget, name: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Help")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(*SIZE)
        self.list = QListWidget()
        self.list.setFixedWidth(LIST_W)
        self.list.setAccessibleName("Pages")
        for title in PAGES.values():
            item = QListWidgetItem(title, self.list)
            item.setSizeHint(QSize(LIST_W - 20, ROW_PX))
        self.text = QTextBrowser()
        self.text.setAccessibleName("Page")
        self.text.setOpenLinks(False)
        across = QHBoxLayout()
        across.addWidget(self.list)
        across.addWidget(self.text, 1)
        layout = column(self, margins=(14, 14, 14, 14), gap=10)
        layout.addLayout(across, 1)
        layout.addLayout(foot_with_close(self))
        self.list.currentRowChanged.connect(lambda row: self._show(list(PAGES)[row]))
        self.list.setCurrentRow(list(PAGES).index(name))
        self.text.setFocus()

    def _show(self, name: str) -> None:
        document = self.text.document()
        if document is not None:
            document.setMarkdown(page(name), QTextDocument.MarkdownFeature.MarkdownDialectGitHub)
