"""The launcher: a copy runs its own source, wherever it was copied from."""

import shutil
import subprocess
import sys
from pathlib import Path

TOP = Path(__file__).parent.parent


def test_a_copied_installation_runs_its_own_source(tmp_path: Path) -> None:
    """With an environment that was made elsewhere, as a copy of the whole folder has it."""
    copy = tmp_path / "copy"
    copy.mkdir()
    for name in ("yard", "requirements.lock", "requirements-dev.lock"):
        shutil.copy2(TOP / name, copy / name)
    (copy / "src").mkdir()
    (copy / "src" / "yardgate").mkdir()
    (copy / "src" / "yardgate" / "__init__.py").touch()
    (copy / "src" / "yardgate" / "cli.py").write_text("print('the copy')\n")
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", copy / ".venv"], check=True)
    site = next((copy / ".venv" / "lib").glob("python3.*/site-packages"))
    (site / "yardgate.pth").write_text(f"{TOP / 'src'}\n")
    (copy / ".yard").mkdir()
    launcher = {"__name__": "launcher", "__file__": str(copy / "yard")}
    exec((copy / "yard").read_text(), launcher)
    launcher["stamp"]("python-run", launcher["digest"](copy / "requirements.lock"))  # type: ignore[operator]
    done = subprocess.run([sys.executable, copy / "yard", "--help"], capture_output=True, text=True)
    assert (done.returncode, done.stdout) == (0, "the copy\n"), done
