# What building and testing need; each function installs only what is missing, and says so. Sourced by start and test.

install_debian() {
  if ! command -v apt-get >/dev/null; then
    echo "please install: $*" >&2
    exit 1
  fi
  local sudo=
  [ "$(id -u)" = 0 ] || sudo=sudo
  echo "installing Debian's packages: $*"
  $sudo apt-get update -qq
  DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "$@" >/dev/null
}

need_compilers() {
  command -v cc >/dev/null || install_debian build-essential
  if ! command -v cargo >/dev/null; then
    echo "Rust is missing: install it with your system's rustup, then run this again" >&2
    exit 1
  fi
  command -v npm >/dev/null || install_debian nodejs npm
}

# npm packages and the built pages, each only when its inputs are newer.
need_front_end() {
  if [ ! -e web/node_modules/.done ] || [ web/package-lock.json -nt web/node_modules/.done ]; then
    echo "installing npm packages"
    (cd web && npm ci --no-audit --no-fund --silent)
    touch web/node_modules/.done
  fi
  if [ ! -e web/dist/index.html ] || [ -n "$(find web/src web/public web/index.html web/*.json web/*.ts -newer web/dist/index.html -print -quit)" ]; then
    echo "building the pages"
    (cd web && npm run --silent build >/dev/null)
  fi
}

need_browser() {
  local missing=()
  [ -x /usr/bin/chromium ] || missing+=(chromium)
  [ -x /usr/bin/chromedriver ] || missing+=(chromium-driver)
  [ ${#missing[@]} = 0 ] || install_debian "${missing[@]}"
}

# What reads HEIC and AVIF; Evanu runs without it and says so when such a file comes.
need_heif() {
  if ! ldconfig -p 2>/dev/null | grep -q 'libheif\.so\.1' && command -v apt-get >/dev/null; then
    install_debian libheif1 || echo "without libheif, HEIC and AVIF cannot be read"
  fi
}

# What reads and writes clips but for Y4M; Evanu runs without it and says so when one comes.
need_ffmpeg() {
  if ! command -v ffmpeg >/dev/null && command -v apt-get >/dev/null; then
    install_debian ffmpeg || echo "without ffmpeg, clips other than Y4M can neither be read nor written"
  fi
}
