"""Settings. Everything that differs between places comes from the environment; see docs/deployment.md."""

import os
from collections.abc import MutableMapping
from pathlib import Path

from config.policy import policy

ROOT = Path(__file__).resolve().parent.parent.parent
VAR = Path(os.environ.get("NEXAL_VAR", ROOT / "var"))
DEBUG = os.environ.get("NEXAL_DEBUG") == "1"
MEMORY = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")


def _stored(name: str, default: str = "") -> str:
    """A secret from the environment, else from a file that `run` wrote under var/."""
    path = VAR / name
    return os.environ.get(f"NEXAL_{name.upper()}") or (path.read_text().strip() if path.is_file() else default)


# Without one nothing can be signed, and the server does not start: see config/wsgi.py.
SECRET_KEY = _stored("secret_key")
ALLOWED_HOSTS = os.environ.get("NEXAL_HOSTS", "127.0.0.1,localhost,[::1]").split(",")
CSRF_TRUSTED_ORIGINS = [origin for origin in os.environ.get("NEXAL_ORIGINS", "").split(",") if origin]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "ninja",
    "django_vite",
    "accounts",
    "jobs",
    "projects",
    "sources",
    "notes",
    "tags",
    "recipes",
    "stage",
    "chains",
    "deliveries",
    "wall",
    "keeping",
    "demo",
]
MIDDLEWARE = [
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "config.middleware.ContentSecurityPolicy",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "config.sessions.WhoAsks",
    "sources.guard.UploadGuard",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "config.urls"
WSGI_APPLICATION = "config.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [ROOT / "server" / "templates"],
        "OPTIONS": {"context_processors": ["django.template.context_processors.request"]},
    }
]
DATABASES = {
    "default": {
        "ENGINE": "config.database",
        "NAME": os.environ.get("NEXAL_DB_NAME", "nexal"),
        "USER": os.environ.get("NEXAL_DB_USER", "nexal"),
        "PASSWORD": _stored("db_password", ""),
        "HOST": os.environ.get("NEXAL_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("NEXAL_DB_PORT", "33306"),
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {"charset": "utf8mb4", "init_command": "SET sql_mode='STRICT_ALL_TABLES'"},
        "TEST": {"NAME": "test_nexal", "CHARSET": "utf8mb4"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_USER_MODEL = "accounts.User"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
USE_TZ = True
TIME_ZONE = "UTC"
USE_I18N = False

STATIC_URL = "/static/"
STATIC_ROOT = VAR / "static"
STATICFILES_DIRS = [ROOT / "web" / "dist"] if (ROOT / "web" / "dist").is_dir() else []
DJANGO_VITE = {"default": {"dev_mode": DEBUG, "manifest_path": ROOT / "web" / "dist" / "manifest.json"}}
WHITENOISE_KEEP_ONLY_HASHED_FILES = False


def _is_hashed(path: str, url: str) -> bool:
    """Files that Vite named after their content never change."""
    import re

    return bool(re.search(r"/assets/.+-[\w-]{8}\.\w+$", url))


WHITENOISE_IMMUTABLE_FILE_TEST = _is_hashed
WHITENOISE_ALLOW_ALL_ORIGINS = False


def _guarded(headers: MutableMapping[str, str], path: str, url: str) -> None:
    """Static files carry what every answer carries; they are sent before the rest of the middleware."""
    headers["X-Content-Type-Options"] = "nosniff"
    headers["Content-Security-Policy"] = policy(debug=DEBUG)
    headers["Referrer-Policy"] = SECURE_REFERRER_POLICY


WHITENOISE_ADD_HEADERS_FUNCTION = _guarded

MEDIA_ROOT = VAR / "media"
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
FILE_UPLOAD_TEMP_DIR = VAR / "uploads"
FILE_UPLOAD_PERMISSIONS = 0o640
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 << 20

SESSION_ENGINE = "config.sessions"
SESSION_COOKIE_AGE = 14 * 24 * 3600
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = os.environ.get("NEXAL_HTTPS") == "1"
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"

TEST_RUNNER = "config.test_runner.NexalRunner"

NEXAL_STORE = VAR / "store"
NEXAL_STORE_BYTES = int(os.environ.get("NEXAL_STORE_BYTES", 40 << 30))
NEXAL_KEPT = VAR / "kept"
NEXAL_KEPT_BYTES = int(os.environ.get("NEXAL_KEPT_BYTES", 4 << 30))
CACHES = {
    "default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"},
    # Small pictures of saved revisions, some hundred kilobytes each.
    "pictures": {
        "BACKEND": "django.core.cache.backends.filebased.FileBasedCache",
        "LOCATION": VAR / "pictures",
        "TIMEOUT": None,
        "OPTIONS": {"MAX_ENTRIES": int(os.environ.get("NEXAL_PICTURES", 3000))},
    },
}
NEXAL_TURNS = VAR / "view_turns"
NEXAL_PROXIES = [address for address in os.environ.get("NEXAL_PROXIES", "").split(",") if address]
# What all processes of a server take together is shared out among them.
NEXAL_PROCESSES = int(os.environ.get("NEXAL_PROCESSES", 1))
NEXAL_CACHE_BYTES = int(os.environ.get("NEXAL_CACHE_BYTES", 512 << 20)) // NEXAL_PROCESSES
NEXAL_REQUEST_BYTES = int(os.environ.get("NEXAL_REQUEST_BYTES", 1 << 30))
NEXAL_REQUEST_SECONDS = float(os.environ.get("NEXAL_REQUEST_SECONDS", 10))
NEXAL_HOUSE_BYTES = int(os.environ.get("NEXAL_HOUSE_BYTES", 3 << 29)) // NEXAL_PROCESSES
NEXAL_JOB_BYTES = int(os.environ.get("NEXAL_JOB_BYTES", MEMORY // 3))
NEXAL_JOB_SECONDS = float(os.environ.get("NEXAL_JOB_SECONDS", 1800))
NEXAL_UPLOAD_BYTES = int(os.environ.get("NEXAL_UPLOAD_BYTES", 4 << 30))
NEXAL_SIGN_IN_FAILURES = 5
NEXAL_SIGN_IN_MINUTES = 10
NEXAL_JOBS = os.environ.get("NEXAL_JOBS", "thread")
NEXAL_SCHEDULER = os.environ.get("NEXAL_SCHEDULER", "")
"""Address of a Dask scheduler (tcp://host:8786) whose workers render frames. Empty: many frames are rendered by
processes of this server's own, few by itself; "here": all by itself."""

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "{asctime} {levelname} {name}: {message}", "style": "{"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"nexal": {"level": "INFO"}},
}
