"""Echo logs of many systems, languages and habits: each shape with the samples it holds."""

from __future__ import annotations

import pytest

from tarnfell.exchange.echolog import parse_echo_log, parse_echo_logs, read_echo_logs

NONE = None


def unix(words: str, numbers: str = "icmp_seq") -> str:
    """Two answers, number 2 missing between them; ``words`` has the answer's language."""
    return "\n".join(words.format(n=n, ms=ms, seq=numbers) for n, ms in ((1, "10.5"), (3, "12.25")))


UNIX = {
    "GNU inetutils": unix("64 bytes from 192.0.2.1: {seq}={n} ttl=64 time={ms} ms"),
    "iputils, named": unix("64 bytes from gw.example (192.0.2.1): {seq}={n} ttl=64 time={ms} ms"),
    "old iputils": unix("64 bytes from gw.example (192.0.2.1): {seq}={n} ttl=64 time={ms} ms", "icmp_req").replace(
        "icmp_req", "icmp_seq"
    ),
    "busybox": unix("64 bytes from 192.0.2.1: {seq}={n} ttl=64 time={ms} ms", "seq"),
    "macOS ping6": unix("16 bytes from 2001:db8::1, {seq}={n} hlim=64 time={ms} ms"),
    "Linux IPv6": unix("64 bytes from 2001:db8::1: {seq}={n} ttl=64 time={ms} ms"),
    "Linux link-local": unix("64 bytes from fe80::1%eth0: {seq}={n} ttl=64 time={ms} ms"),
    "Solaris": unix("64 bytes from gw.example (192.0.2.1): {seq}={n}. time={ms} ms"),
    "German": unix("64 Bytes von 192.0.2.1: {seq}={n} ttl=64 Zeit={ms} ms"),
    "French": unix("64 octets de 192.0.2.1 : {seq}={n} ttl=64 temps={ms} ms"),
    "Spanish": unix("64 bytes desde 192.0.2.1: {seq}={n} ttl=64 tiempo={ms} ms"),
    "Italian": unix("64 byte da 192.0.2.1: {seq}={n} ttl=64 tempo={ms} ms").replace("12.25", "12,25"),
    "Dutch": unix("64 bytes van 192.0.2.1: {seq}={n} ttl=64 tijd={ms} ms"),
    "Portuguese": unix("64 bytes de 192.0.2.1: {seq}={n} ttl=64 tempo={ms} ms"),
    "Polish": unix("64 bajty z 192.0.2.1: {seq}={n} ttl=64 czas={ms} ms"),
    "log prefix": unix("host ping[812]: 64 bytes from 192.0.2.1: {seq}={n} ttl=64 time={ms} ms"),
}


@pytest.mark.parametrize("name", UNIX)
def test_unix_in_any_language(name: str) -> None:
    log = parse_echo_log(UNIX[name])
    assert [e.rtt_ms for e in log.samples] == [10.5, None, 12.25]
    assert [e.answered for e in log.samples] == [True, False, True]
    assert log.strange_count == 0
    assert log.host in ("192.0.2.1", "gw.example", "2001:db8::1", "fe80::1")


WINDOWS = {
    "English": (
        "Pinging gw.example [192.0.2.1] with 32 bytes of data:",
        "Reply from 192.0.2.1: bytes=32 time=12ms TTL=57",
        "Request timed out.",
        "Reply from 192.0.2.9: Destination host unreachable.",
        "Ping statistics for 192.0.2.1:\n    Packets: Sent = 4, Received = 3, Lost = 1 (25% loss),\n"
        "Approximate round trip times in milli-seconds:\n    Minimum = 1ms, Maximum = 12ms, Average = 6ms",
    ),
    "German": (
        "Ping wird ausgeführt für gw.example [192.0.2.1] mit 32 Bytes Daten:",
        "Antwort von 192.0.2.1: Bytes=32 Zeit=12ms TTL=57",
        "Zeitüberschreitung der Anforderung.",
        "Antwort von 192.0.2.9: Zielhost nicht erreichbar.",
        "Ping-Statistik für 192.0.2.1:\n    Pakete: Gesendet = 4, Empfangen = 3, Verloren = 1\n    (25% Verlust),\n"
        "Ca. Zeitangaben in Millisek.:\n    Minimum = 1ms, Maximum = 12ms, Mittelwert = 6ms",
    ),
    "French": (
        "Envoi d'une requête 'Ping'  gw.example [192.0.2.1] avec 32 octets de données :",
        "Réponse de 192.0.2.1 : octets=32 temps=12 ms TTL=57",
        "Délai d'attente de la demande dépassé.",
        "Réponse de 192.0.2.9 : Impossible de joindre l'hôte de destination.",
        "Statistiques Ping pour 192.0.2.1:\n    Paquets : envoyés = 4, reçus = 3, perdus = 1 (perte 25%),\n"
        "Durée approximative des boucles en millisecondes :\n    Minimum = 1ms, Maximum = 12ms, Moyenne = 6ms",
    ),
    "Spanish": (
        "Haciendo ping a gw.example [192.0.2.1] con 32 bytes de datos:",
        "Respuesta desde 192.0.2.1: bytes=32 tiempo=12ms TTL=57",
        "Tiempo de espera agotado para esta solicitud.",
        "Respuesta desde 192.0.2.9: Host de destino inaccesible.",
        "Estadísticas de ping para 192.0.2.1:\n    Paquetes: enviados = 4, recibidos = 3, perdidos = 1\n"
        "    (25% perdidos),\nTiempos aproximados de ida y vuelta en milisegundos:\n    Mínimo = 1ms, Máximo = 12ms",
    ),
    "Italian": (
        "Esecuzione di Ping gw.example [192.0.2.1] con 32 byte di dati:",
        "Risposta da 192.0.2.1: byte=32 durata=12ms TTL=57",
        "Richiesta scaduta.",
        "Risposta da 192.0.2.9: Host di destinazione non raggiungibile.",
        "Statistiche Ping per 192.0.2.1:\n    Pacchetti: Trasmessi = 4, Ricevuti = 3,\n    Persi = 1 (25% persi),\n"
        "Tempo approssimativo percorsi andata/ritorno in millisecondi:\n    Minimo = 1ms, Massimo =  12ms",
    ),
    "Dutch": (
        "Pingen naar gw.example [192.0.2.1] met 32 bytes aan gegevens:",
        "Antwoord van 192.0.2.1: bytes=32 tijd=12 ms TTL=57",
        "Time-out bij opdracht.",
        "Antwoord van 192.0.2.9: De doelhost is niet bereikbaar.",
        "Ping-statistieken voor 192.0.2.1:\n    Pakketten: verzonden = 4, ontvangen = 3, verloren = 1\n"
        "    (25% verlies).\n\nDe gemiddelde tijd voor het uitvoeren van één bewerking in milliseconden:\n"
        "    Minimum = 1ms, Maximum = 12ms, Gemiddelde = 6ms",
    ),
    "Portuguese": (
        "Disparando gw.example [192.0.2.1] com 32 bytes de dados:",
        "Resposta de 192.0.2.1: bytes=32 tempo=12ms TTL=57",
        "Esgotado o tempo limite do pedido.",
        "Resposta de 192.0.2.9: Host de destino inacessível.",
        "Estatísticas do Ping para 192.0.2.1:\n    Pacotes: Enviados = 4, Recebidos = 3, Perdidos = 1 (25% de\n"
        "             perda),\nAproximar um número redondo de vezes em milissegundos:\n    Mínimo = 1ms, Máximo = 12ms",
    ),
    "Polish": (
        "Badanie gw.example [192.0.2.1] z 32 bajtami danych:",
        "Odpowiedź z 192.0.2.1: bajtów=32 czas=12ms TTL=57",
        "Upłynął limit czasu żądania.",
        "Odpowiedź z 192.0.2.9: Host docelowy jest nieosiągalny.",
        "Statystyka badania ping dla 192.0.2.1:\n    Pakiety: Wysłane = 4, Odebrane = 3, Utracone = 1\n"
        "             (25% straty),\nSzacunkowy czas błądzenia pakietów w millisekundach:\n    Minimum = 1 ms",
    ),
}
ENCODINGS = {
    "English": "utf-8", "German": "cp850", "French": "cp1252", "Spanish": "utf-16", "Italian": "utf-16-le",
    "Dutch": "utf-8-sig", "Portuguese": "cp850", "Polish": "cp852",
}  # fmt: skip


@pytest.mark.parametrize("language", WINDOWS)
@pytest.mark.parametrize("encoded", [False, True])
def test_windows_in_any_language_and_encoding(language: str, encoded: bool) -> None:
    head, reply, silence, refused, totals = WINDOWS[language]
    text = "\r\n".join(
        ["", head, reply, silence, refused, reply.replace("=12", "<1"), "", totals.replace("\n", "\r\n")]
    )
    data = text.encode(ENCODINGS[language] if encoded else "utf-8")
    logs = read_echo_logs(data)
    assert len(logs) == 1
    log = logs[0]
    assert (log.system, log.host) == ("Windows", "gw.example")
    assert [e.rtt_ms for e in log.samples] == [12, None, None, 1]
    assert log.lost == 2
    # Windows counts the refusal as received; that is no contradiction.
    assert (log.notes, log.strange) == ((), ())


@pytest.mark.parametrize(
    ("line", "language"),
    [
        ("Reply from 2001:db8::1: time=12ms", "IPv6"),
        ("Antwort von fe80::1%12: Zeit=12ms", "German, link-local"),
        ("Réponse de 2001:db8::1 : temps=12 ms", "French IPv6"),
        ("Reply from\u00a0192.0.2.1: bytes=32 time=12ms TTL=57", "no-break space"),
    ],
)
def test_windows_answers_without_heading(line: str, language: str) -> None:
    assert [e.rtt_ms for e in parse_echo_log(line).samples] == [12], language


@pytest.mark.parametrize(
    "line",
    [
        "PING: transmit failed. General failure.",
        "PING: Fehler bei der Übertragung. Allgemeiner Fehler.",
        "PING : échec de la transmission. Défaillance générale.",
        "PING: error en la transmisión. Error general.",
        "PING: trasmissione non riuscita. Errore generale.",
        "General failure.",
        "Reply from 192.0.2.9: TTL expired in transit.",
        "Antwort von 192.0.2.9: Die Gültigkeitsdauer wurde bei der Übertragung überschritten.",
        "Antwort von router.example: Zielhost nicht erreichbar.",
    ],
)
def test_what_windows_says_when_nothing_came_back(line: str) -> None:
    text = f"Pinging 192.0.2.1 with 32 bytes of data:\nReply from 192.0.2.1: bytes=32 time=5ms TTL=64\n{line}\n"
    log = parse_echo_log(text)
    assert [e.answered for e in log.samples] == [True, False]
    assert log.host == "192.0.2.1"


@pytest.mark.parametrize(
    ("line", "answered"),
    [
        ("From 192.0.2.9 icmp_seq=2 Destination Host Unreachable", False),
        ("From gw.example (192.0.2.9) icmp_seq=2 Time to live exceeded", False),
        ("no answer yet for icmp_seq=2", False),
        ("keine Antwort für icmp_seq=2", False),
        ("Request timeout for icmp_seq 2", False),
        ("ping: sendmsg: Network is unreachable", False),
        ("ping: sendto: No route to host", False),
        ("From 192.0.2.9: icmp_seq=2 Redirect Host(New nexthop: 192.0.2.8)", None),
        ("64 bytes from 192.0.2.1: icmp_seq=2 ttl=64", True),
        ("92 bytes from gw.example (192.0.2.9): Destination Host Unreachable", None),
        ("Vr HL TOS  Len   ID Flg  off TTL Pro  cks      Src      Dst", None),
    ],
)
def test_what_unix_says_between_answers(line: str, answered: bool | None) -> None:
    log = parse_echo_log(f"64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=3 ms\n{line}\n")
    assert [e.answered for e in log.samples] == ([True] if answered is None else [True, answered])
    assert log.strange_count == 0


def test_an_answer_without_a_time_is_an_answer() -> None:
    log = parse_echo_log("16 bytes from 192.0.2.1: icmp_seq=0 ttl=64\n16 bytes from 192.0.2.1: icmp_seq=1 ttl=64\n")
    assert (log.lost, log.figures().rtt_p50_ms) == (0, None)
    assert log.notes == ("2 answers came without a time: their packets were too small to carry one.",)


def test_a_late_answer_replaces_its_silence() -> None:
    text = (
        "64 bytes from 192.0.2.1: icmp_seq=1 ttl=64 time=3 ms\nno answer yet for icmp_seq=2\n"
        "no answer yet for icmp_seq=3\n64 bytes from 192.0.2.1: icmp_seq=2 ttl=64 time=1900 ms\n"
    )
    assert [e.rtt_ms for e in parse_echo_log(text).samples] == [3, 1900, None]


def test_a_late_answer_from_before_the_wrap_keeps_its_place() -> None:
    order = (65533, 65534, 0, 65535, 1, 3)
    log = parse_echo_log("\n".join(f"64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time={n % 7} ms" for n in order))
    assert [e.rtt_ms for e in log.samples] == [65533 % 7, 65534 % 7, 65535 % 7, 0, 1, None, 3]


# The log's own totals


def replies(*numbers: int) -> str:
    return "".join(f"64 bytes from 192.0.2.1: icmp_seq={n} ttl=64 time={n} ms\n" for n in numbers)


HEAD = "PING 192.0.2.1 (192.0.2.1) 56(84) bytes of data.\n"
END = "\n--- 192.0.2.1 ping statistics ---\n"


def test_silence_at_the_end_is_known_from_the_totals() -> None:
    log = parse_echo_log(
        HEAD + replies(1, 2) + END + "5 packets transmitted, 2 received, 60% packet loss, time 4012ms\n"
    )
    assert [e.answered for e in log.samples] == [True, True, False, False, False]
    assert log.figures().longest_loss_run == 3
    assert log.notes == ("The last 3 of 5 requests were not answered; only the log's totals tell of them.",)
    assert log.samples[-1].at_s == pytest.approx(4.012)


@pytest.mark.parametrize(
    "totals",
    [
        "10 packets transmitted, 0 received, 100% packet loss, time 9001ms",
        "10 packets transmitted, 0 packets received, 100.0% packet loss",
        "10 Pakete übertragen, 0 empfangen, 100% packet loss, time 9001ms",
        "10 paquets transmis, 0 reçus, 100% packet loss, time 9001ms",
        "10 packets transmitted, 0 received, +4 errors, 100% packet loss, time 9001ms",
    ],
)
def test_a_host_that_never_answered_is_no_empty_log(totals: str) -> None:
    log = parse_echo_log(HEAD + END + totals + "\n")
    assert (len(log.samples), log.lost, log.host) == (10, 10, "192.0.2.1")
    assert "None of 10 requests was answered" in log.notes[0]


def test_totals_that_contradict_the_lines_are_told() -> None:
    text = HEAD + replies(1, 2, 4, 5) + END + "20 packets transmitted, 10 received, 50% packet loss\n"
    log = parse_echo_log(text)
    assert log.figures().lost == 1
    assert log.notes == (
        "The log's own totals say 10 of 20 lost, its lines show 1 of 5: lines are missing or were added. "
        "The figures here are of the lines.",
    )
    whole = HEAD + replies(1, 2, 4, 5) + END + "5 packets transmitted, 4 received, 20% packet loss\n"
    assert parse_echo_log(whole).notes == ()


def test_windows_totals_are_held_against_its_lines() -> None:
    text = (
        "Pinging 192.0.2.1 with 32 bytes of data:\nReply from 192.0.2.1: bytes=32 time=5ms TTL=64\nRequest timed out.\n"
        "Ping statistics for 192.0.2.1:\n    Packets: Sent = 9, Received = 4, Lost = 5 (55% loss),\n"
    )
    assert "say 5 of 9 lost, its lines show 1 of 2" in parse_echo_log(text).notes[0]


def test_lines_nobody_understands_are_told_with_their_number() -> None:
    text = HEAD + replies(1) + "Vypršel časový limit žádosti.\n" + replies(2)
    log = parse_echo_log(text)
    assert (log.strange, log.strange_count) == (((3, "Vypršel časový limit žádosti."),), 1)
    assert log.notes == ("1 line was not understood.",)


# Several runs, several hosts


def test_several_runs_follow_each_other() -> None:
    run = HEAD + replies(1, 2, 3) + END + "3 packets transmitted, 3 received, 0% packet loss\n"
    log = parse_echo_log(run + "\n" + run.replace("icmp_seq=2", "icmp_seq=9").replace("3 packets", "9 packets"))
    assert (log.runs, len(log.samples)) == (2, 3 + 9)
    assert log.samples[3].at_s == 3
    assert "2 runs of ping; how long lay between them is not in it" in log.notes[-1]


def test_runs_without_headings_begin_where_numbers_do() -> None:
    log = parse_echo_log(replies(1, 2, 3) + replies(1, 2))
    assert (log.runs, len(log.samples), log.duplicates) == (2, 5, 0)
    again = parse_echo_log(HEAD + replies(1, 2, 2))
    assert (again.runs, again.duplicates) == (1, 1)


def test_runs_of_windows_follow_each_other() -> None:
    head, reply, silence, _, totals = WINDOWS["English"]
    one = "\n".join([head, reply, silence, "", totals, ""])
    log = parse_echo_log(one + one)
    assert (log.runs, [e.answered for e in log.samples]) == (2, [True, False] * 2)


def test_several_hosts_are_several_logs() -> None:
    first = HEAD + replies(1, 2)
    second = (HEAD + replies(1, 3)).replace("192.0.2.1", "198.51.100.7")
    logs = parse_echo_logs(first + second)
    assert [(log.host, len(log.samples), log.lost) for log in logs] == [("192.0.2.1", 2, 0), ("198.51.100.7", 3, 1)]
    # Two that wrote into one file at once, without headings.
    mixed = "".join(a + "\n" + b.replace("192.0.2.1", "192.0.2.2") + "\n" for a, b in
                    zip(replies(1, 2, 4).splitlines(), replies(1, 2, 3).splitlines(), strict=True))  # fmt: skip
    assert [(log.host, len(log.samples), log.lost) for log in parse_echo_logs(mixed)] == [
        ("192.0.2.1", 4, 1), ("192.0.2.2", 3, 0),
    ]  # fmt: skip
