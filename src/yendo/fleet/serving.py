"""A server that collects what computers tell and shows what became of deliveries.

It can change nothing on any computer: it has no key to sign with, and no way to them.

A report is answered once it is committed. Several processes may serve from one database: PostgreSQL itself tells them
that something came.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import hmac
import secrets
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from datetime import datetime, timedelta
from pathlib import Path

import msgspec
import sqlalchemy as sql
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse, HTMLResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from starlette.routing import Mount, Route
from starlette.staticfiles import StaticFiles

from yendo.errors import Unreadable, Usage
from yendo.fleet import machine_reports
from yendo.fleet.deliveries import TOLD, Deliveries, moment
from yendo.fleet.happened import happened
from yendo.fleet.index import CONTENT, INDEX, SIGNERS, written
from yendo.fleet.machine_reports import Sealed, StrangerReport
from yendo.fleet.page import page, reader_page

SESSION = timedelta(hours=12)
COOKIE = "yendo-session"
LOOK = 5.0  # seconds between two looks whether a rule stops something, where the database tells nothing by itself
AT_ONCE, MOST_WAITING = 200, 2000  # reports in one transaction; that wait before whoever comes next has to
SHARE = 20  # of the time, one part in so many goes into judging
TRIES = 10  # wrong passwords within a minute, over all readers
_COST = {"n": 1 << 14, "r": 8, "p": 1}


class Proxy(msgspec.Struct, frozen=True):
    """The office's own sign-on stands before this server: a header says who reads, and counts from one host only."""

    header: str
    host: str


def hashed(password: str, salt: str = "") -> str:
    """A password as it is kept: salt and scrypt (RFC 7914)."""
    salt = salt or secrets.token_hex(16)
    return f"{salt}${hashlib.scrypt(password.encode(), salt=salt.encode(), **_COST).hex()}"


class Serving:
    """The server's work, apart from how it is asked."""

    def __init__(self, deliveries: Deliveries, proxy: Proxy | None = None) -> None:
        self.deliveries, self.proxy = deliveries, proxy
        self.wrong: list[float] = []
        self.waiting: asyncio.Queue[tuple[Sealed, asyncio.Future[str | StrangerReport]]] = asyncio.Queue(MOST_WAITING)

    # --- readers --------------------------------------------------------------------------------------------------

    def admit(self, name: str, password: str) -> None:
        """Gives somebody a password, or another one."""
        store = self.deliveries.store
        with store.opened() as connection:
            table = store.tables.tables["reader"]
            connection.execute(table.delete().where(table.c.name == name))
            connection.execute(table.insert(), {"name": name, "password": hashed(password)})

    def log_on(self, name: str, password: str, now: datetime) -> str:
        """The session of a reader; empty where the password is wrong."""
        store = self.deliveries.store
        with store.opened() as connection:
            table, sessions = store.tables.tables["reader"], store.tables.tables["session"]
            kept = connection.scalar(sql.select(table.c.password).where(table.c.name == name)) or hashed("", "none")
            right = hmac.compare_digest(kept, hashed(password, kept.partition("$")[0]))
            if not right or kept.startswith("none$"):
                return ""
            session = secrets.token_urlsafe(32)
            connection.execute(sessions.delete().where(sessions.c.until < written(now)))
            row = {"id": _digest(session), "reader": name, "until": written(now + SESSION)}
            connection.execute(sessions.insert(), row)
        return session

    def reader(self, request: Request) -> str:
        """Who reads; empty where nobody has said so."""
        if self.proxy is not None:
            here = request.client is not None and request.client.host == self.proxy.host
            return request.headers.get(self.proxy.header, "") if here else ""
        session = request.cookies.get(COOKIE, "")
        if not session:
            return ""
        store = self.deliveries.store
        with store.opened() as connection:
            table = store.tables.tables["session"]
            found = connection.execute(sql.select(table).where(table.c.id == _digest(session))).mappings().first()
        return str(found["reader"]) if found and found["until"] > written(moment()) else ""

    # --- answers --------------------------------------------------------------------------------------------------

    async def report(self, request: Request) -> Response:
        """Takes one report."""
        body = bytearray()
        async for piece in request.stream():
            body += piece
            if len(body) > machine_reports.MOST:
                return PlainTextResponse("too long\n", 400)
        try:
            came = machine_reports.read(bytes(body))
        except Unreadable as error:
            return PlainTextResponse(f"{error}\n", 400)
        answer: asyncio.Future[str | StrangerReport] = asyncio.get_running_loop().create_future()
        await self.waiting.put((came, answer))
        try:
            became = await answer
        except sql.exc.DBAPIError:
            return PlainTextResponse("the database is away; leave it again later\n", 503)
        return PlainTextResponse(f"{became}\n", 200 if isinstance(became, str) else 403)

    async def take(self) -> None:
        """Takes what waits, all of it in one transaction, and answers each once that is committed."""
        while True:
            some = [await self.waiting.get()]
            while len(some) < AT_ONCE and not self.waiting.empty():
                some.append(self.waiting.get_nowait())
            try:
                became = await run_in_threadpool(self.deliveries.arrive_all, [came for came, _ in some], moment())
            except Exception as error:  # whoever waits must have an answer, whatever it was
                for _, answer in some:
                    if not answer.done():
                        answer.set_exception(error)
                continue
            for (_, answer), one in zip(some, became, strict=True):
                if not answer.done():
                    answer.set_result(one)

    async def log_on_page(self, request: Request) -> Response:
        if request.method == "GET":
            return self._readers(log_on=True, wrong="")
        loop = asyncio.get_running_loop()
        self.wrong = [one for one in self.wrong if one > loop.time() - 60]
        if len(self.wrong) >= TRIES:
            return self._readers(log_on=True, wrong="Too many wrong passwords; wait a minute.", status=429)
        form = await _form(request)
        session = await run_in_threadpool(self.log_on, form.get("name", ""), form.get("password", ""), moment())
        if not session:
            self.wrong.append(loop.time())
            return self._readers(log_on=True, wrong="The name or the password is wrong.", status=403)
        answer = RedirectResponse("/", 303)
        secure = request.url.scheme == "https"
        answer.set_cookie(
            COOKIE, session, max_age=int(SESSION.total_seconds()), httponly=True, samesite="strict", secure=secure
        )
        return answer

    def _readers(self, *, status: int = 200, **values: object) -> Response:
        nonce = secrets.token_urlsafe(16)
        body = reader_page(nonce=nonce, **{"log_on": False, "wrong": "", "deliveries": [], **values})
        return _shown(body, nonce, status)

    async def list_page(self, request: Request) -> Response:
        return self._readers(deliveries=(await run_in_threadpool(self.deliveries.all))[::-1])

    async def delivery_page(self, request: Request) -> Response:
        nonce = secrets.token_urlsafe(16)
        body = await run_in_threadpool(self._page, int(request.path_params["number"]), nonce)
        return _shown(body, nonce)

    def _page(self, number: int, nonce: str) -> str:
        try:
            return page(happened(self.deliveries, number, moment()), nonce=nonce)
        except Usage as error:
            raise HTTPException(404, str(error)) from error

    async def computer(self, request: Request) -> Response:
        """A computer's own history."""
        told = await run_in_threadpool(self.deliveries.history, request.path_params["name"])
        return JSONResponse(msgspec.to_builtins(told))

    def reading(self, answer: Callable[[Request], Awaitable[Response]]) -> Callable[[Request], Awaitable[Response]]:
        """An answer for those who may read."""

        async def admitted(request: Request) -> Response:
            if await run_in_threadpool(self.reader, request):
                return await answer(request)
            if self.proxy is not None:
                return PlainTextResponse("the sign-on proxy has not said who this is\n", 403)
            return RedirectResponse("/log-on", 303)

        return admitted

    # --- by itself ------------------------------------------------------------------------------------------------

    def judge(self) -> float:
        """Asks the rule of everything that is open; how many seconds it took."""
        begun = time.monotonic()
        for one in self.deliveries.all():
            if one.state == "open":
                self.deliveries.judge(one.number, moment())
        return time.monotonic() - begun

    async def watch(self) -> None:
        """Judges whenever something came, and not for longer than a share of the time."""
        if not self.deliveries.store.shared:
            while True:
                await asyncio.sleep(max(LOOK, SHARE * await run_in_threadpool(self.judge)))
        import psycopg

        url = self.deliveries.store.engine.url.set(drivername="postgresql").render_as_string(hide_password=False)
        while True:
            with contextlib.suppress(psycopg.Error, OSError, sql.exc.DatabaseError):
                async with await psycopg.AsyncConnection.connect(url, autocommit=True) as connection:
                    await connection.execute(f"LISTEN {TOLD}")
                    took = await run_in_threadpool(self.judge)
                    async for _ in connection.notifies():
                        # many come at once: they are judged together
                        await asyncio.sleep(max(0.5, SHARE * took))
                        while [one async for one in connection.notifies(timeout=0)]:
                            pass
                        took = await run_in_threadpool(self.judge)
            await asyncio.sleep(1)  # the database is away; it is looked for again


def application(deliveries: Deliveries, *, folder: Path | None = None, proxy: Proxy | None = None) -> Starlette:
    """The server. ``folder`` is a delivery folder that it gives out as well: index, signers and contents."""
    serving = Serving(deliveries, proxy)

    @contextlib.asynccontextmanager
    async def alive(app: Starlette) -> AsyncIterator[None]:
        working = [asyncio.create_task(one) for one in (serving.watch(), serving.take())]
        try:
            yield
        finally:
            for one in working:
                one.cancel()
            await asyncio.gather(*working, return_exceptions=True)

    routes: list[Route | Mount] = [
        Route("/reports", serving.report, methods=["POST"]),
        Route("/log-on", serving.log_on_page, methods=["GET", "POST"]),
        Route("/", serving.reading(serving.list_page)),
        Route("/delivery/{number:int}", serving.reading(serving.delivery_page)),
        Route("/computer/{name}", serving.reading(serving.computer)),
    ]
    if folder is not None:
        routes += [Route(f"/{name}", _file(folder / name)) for name in (INDEX, SIGNERS)]
        routes.append(Mount(f"/{CONTENT}", StaticFiles(directory=folder / CONTENT, check_dir=False)))
    return Starlette(routes=routes, lifespan=alive)


def _file(path: Path) -> Callable[[Request], Awaitable[Response]]:
    async def answer(request: Request) -> Response:
        return FileResponse(path, media_type="text/plain") if path.is_file() else PlainTextResponse("not there\n", 404)

    return answer


def _digest(text: str) -> str:
    """A session as it is kept: who reads the database has no session by it."""
    return hashlib.sha256(text.encode()).hexdigest()


async def _form(request: Request) -> dict[str, str]:
    from urllib.parse import parse_qsl

    body = bytearray()
    async for piece in request.stream():
        body += piece
        if len(body) > 4096:
            raise HTTPException(400)
    return dict(parse_qsl(body.decode("utf-8", "replace")))


def _shown(body: str, nonce: str, status: int = 200) -> HTMLResponse:
    policy = f"default-src 'none'; style-src 'nonce-{nonce}'; script-src 'nonce-{nonce}'"
    headers = {
        "Content-Security-Policy": policy + "; form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
        "X-Content-Type-Options": "nosniff",
        "Referrer-Policy": "no-referrer",
        "Cache-Control": "no-store",
    }
    return HTMLResponse(body, status, headers=headers)
