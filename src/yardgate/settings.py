"""Where data lies and where the server listens; each can be set as an option or as YARDGATE_… in the environment."""

from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict

from yardgate.log import Form, LogLevel


class Settings(BaseSettings):
    model_config = SettingsConfigDict(env_prefix="YARDGATE_")

    data: Path = Path.home() / ".local" / "share" / "yardgate"
    host: str = "127.0.0.1"
    port: int = 8737
    backups: int = 14  # daily copies of the database that are kept; 0: none is made
    public_url: str = ""  # the address under which browsers reach it, where that is another: of a proxy that speaks TLS
    trusted_proxy: list[str] = []  # addresses of proxies that are believed from where a request comes
    certificate: Path | None = None  # in PEM; with its key, for TLS without a proxy
    key: Path | None = None
    log_level: LogLevel = "info"
    log_format: Form = "text"  # or json: one object a line
    log_file: Path | None = None  # instead of standard error; started again at 10 MB, with five before it kept
    this_host: bool = False  # whether plans may be rolled out on the machine that Yard Gate runs on

    @property
    def address(self) -> str:
        """The address under which browsers reach it."""
        if self.public_url:
            return self.public_url.rstrip("/")
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{'https' if self.certificate else 'http'}://{host}:{self.port}"

    @property
    def database(self) -> Path:
        return self.data / "yardgate.sqlite"
