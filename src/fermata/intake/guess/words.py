"""Words of headings and values in the languages that exports come in, without accents and in small letters."""

from __future__ import annotations

import re

__all__ = [
    "ACTIONS", "ACTUAL", "ALONE", "BREAK", "COLOUR", "COMES", "COUNTERS", "DENIES", "ELSEWHERE", "FURTHER",
    "GENERIC", "GOES", "GOOD", "HINTS", "IDENTITY", "KINDS_OF_NAME", "NO", "PLANNED", "REGISTER", "SIGNS",
    "SIGNS_ELSEWHERE", "TOTAL", "UNITS", "WAYS", "YES",
]  # fmt: skip

HINTS = {  # field -> words in a heading, the surest first
    "start": ("start", "begin", "began", "when", "timestamp", "datetime", "occurred", "checkout", "created", "raised",
    "time", "date", "logged", "from", "at", "ts", "in"),
    "finish": ("finish", "end", "ended", "until", "stop", "logout", "logoff", "disconnect", "disconnected",
    "disassociation", "checkin", "returned", "cleared", "resolved", "closed", "to", "out", "exit", "left",
    "leave", "departure"),
    "duration": ("talk", "billsec", "duration", "hours", "seconds", "secs", "elapsed", "session time", "length",
    "minutes"),
    "user": ("user", "badge", "credential", "administrator", "admin", "card", "person", "who", "login", "account",
    "owner", "employee", "extension", "ext", "driver", "operator", "actor", "caller", "calling", "src", "member",
    "agent", "requester", "staff", "holder", "from", "uid", "name", "by"),
    "device": ("device", "dev", "reader", "door", "gate", "turnstile", "barrier", "access point",
    "printer", "computer", "workstation", "host",
    "terminal", "station", "line", "trunk", "queue", "nas ip", "pc", "ap"),
    "place": ("place", "area", "room", "location", "site", "building", "where", "zone", "queue"),
    "action": ("action", "event", "evt", "verb", "operation", "movement", "change", "disposition", "decision", "status",
    "type", "result", "state", "what"),
    "outcome": ("outcome", "success", "cause", "result"),
    "other": ("other", "callee", "called", "dialled", "dialed", "dst", "target", "object", "document", "destination",
    "path", "program", "app", "feature", "application", "number", "to"),
}  # fmt: skip
GENERIC = ("name", "number", "type", "result", "status", "state", "from", "to", "what", "line", "station", "zone",
"data", "numero", "nummer", "numer", "statut", "stato", "estado")  # fmt: skip
KINDS_OF_NAME = {  # kind of name of a person -> words of headings
    "badge": ("badge", "card", "credential", "karte", "kartennummer", "ausweis", "carte", "tarjeta", "cartao",
    "tessera", "kaart", "karta"),
    "extension": ("extension", "ext", "phone", "telephone", "telefon", "nebenstelle",
    "durchwahl", "poste", "ramal", "interno", "toestel",
    "numer wewnetrzny"),
    "login": ("login", "user", "username", "account", "benutzer", "anmeldename", "utilisateur", "usuario", "utente",
    "gebruiker", "uzytkownik"),
    "mail": ("mail", "email", "courriel", "correo"),
}  # fmt: skip
REGISTER = {  # part of a register -> words of headings, the surest first
    "id": ("staff", "personnel", "personalnummer", "personalnr", "mitarbeiternummer", "mitarbeiternr", "matricule",
    "employee", "asset", "id", "code", "number", "no", "nr", "key", "nummer", "numero"),
    "label": ("full name", "display name", "name", "bezeichnung", "description", "title", "nom", "nombre", "nome",
    "naam", "nazwa"),
    "first name": ("first name", "given name", "forename", "firstname", "vorname", "prenom", "voornaam", "imie"),
    "last name": ("last name", "surname", "family name", "lastname", "nachname", "nom", "apellido", "cognome",
    "achternaam", "nazwisko"),
    "from": ("from", "since", "valid from", "joined", "hired", "start", "entry date", "eintritt", "gultig ab",
    "von", "ab"),
    "until": ("until", "valid until", "left", "leaving", "end", "expires", "austritt", "gultig bis", "bis",
    "valid to", "to"),
    "archived": ("archived", "inactive", "disabled", "left", "deactivated", "gesperrt", "archiviert"),
    "parent": ("parent", "part of", "within", "belongs to", "ubergeordnet"),
}  # fmt: skip
SIGNS = {  # kind -> words of headings that speak for it
    "door access": ("door", "reader", "badge", "card", "entry", "area", "cardholder", "credential", "access point",
    "gate"),
    "calls": ("call", "caller", "callee", "extension", "talk", "ring", "number", "queue", "dst", "disposition", "trunk",
    "dialled", "dialed", "phone", "billsec"),
    "printing": ("printer", "pages", "copies", "sheets", "job name", "document", "duplex", "paper", "grayscale",
    "greyscale"),
    "logins": ("login", "logout", "logon", "logoff", "session", "tty", "signin", "principal", "workstation"),
    "software use": ("program", "licence", "license", "app", "feature", "checkout", "checkin", "seat"),
    "time entries": ("project", "hours", "activity", "billable", "task", "timesheet", "break", "employee", "shift",
    "overtime", "worked", "clock", "lunch"),
    "network sessions": ("acct", "nas", "octets", "bytes", "ssid", "mac", "ip", "tx", "rx", "traffic", "vpn", "srcip",
    "dstip", "sentbyte", "rcvdbyte", "dstport"),
    "changes": ("old", "new", "changed", "object", "before", "after", "actor", "operation", "property"),
    "credit movements": ("amount", "balance", "credit", "debit"),
    "activities": ("ticket", "case", "requester", "agent", "category", "priority", "step"),
    "states": ("state", "status", "alarm", "raised", "cleared", "severity"),
}  # fmt: skip
FURTHER: dict[str, dict[str, tuple[str, ...]]] = {  # kind -> its own fields -> words of headings
    "printing": {
        "pages": ("total pages", "pages", "page count", "seiten", "seitenzahl", "paginas", "pagine", "stron"),
        "copies": ("copies", "kopien", "copias", "copie", "kopie"), "sheets": ("sheets", "blatt"),
        "title": ("document", "job name", "title", "dokument", "dokumentname", "documento", "dokumentu"),
        "colour": ("colour", "color", "farbe", "couleur", "colore", "kleur", "kolor", "grayscale", "greyscale"),
        "paper": ("paper", "media", "papier", "papel", "carta"),
        "cost": ("cost", "price", "charge", "kosten", "preis", "cout", "costo", "coste", "custo", "koszt"),
    },
    "calls": {
        "direction": ("direction", "dir", "way", "richtung", "sens", "direccion", "direcao", "direzione", "richting",
        "kierunek"),
        "charge": ("charge", "cost", "price", "kosten", "preis", "cout", "costo", "coste", "custo", "koszt"),
    },
    "time entries": {
        "project": ("project", "projekt", "projet", "proyecto", "progetto", "projeto"),
        "activity": ("activity", "task", "tatigkeit", "aufgabe", "tache", "tarea", "attivita", "taak", "zadanie"),
        "charged": ("billable", "chargeable", "charged", "abrechenbar", "facturable"),
        "remark": ("remark", "comment", "note", "notes", "bemerkung", "kommentar", "commentaire"),
    },
    "changes": {
        "old": ("old value", "previous value", "old", "before", "alter wert"),
        "new": ("new value", "new", "after", "neuer wert"),
        "other": ("target", "object", "item", "objekt", "ziel", "objet"),
    },
    "door access": {"user": KINDS_OF_NAME["badge"]},
    "logins": {"other": ("ip", "ip address", "source", "remote", "address", "client")},
    "software use": {"other": ("feature", "program", "app", "application", "software", "programm", "programme")},
    "network sessions": {
        "other": ("mac", "calling station", "client ip", "assigned ip", "src ip", "srcip"),
        "received": ("download", "received", "rcvdbyte"), "sent": ("upload", "sent", "sentbyte"),
    },
    "credit movements": {
        "amount": ("amount", "betrag", "montant", "importe", "importo", "bedrag", "kwota"),
        "balance": ("balance", "saldo", "solde"),
    },
    "activities": {"action": ("step", "activity", "stage", "schritt"), "case": ("case", "ticket", "fall")},
}  # fmt: skip
IDENTITY = ("id", "nr", "no", "number", "num", "nummer", "numero", "numer", "code", "phone", "tel", "ref", "serial",
"uid", "pid", "uniqueid", "uuid", "ticket", "job", "badge", "card", "karte", "ext", "extension", "account", "src",
"dst", "caller", "callee", "called", "calling", "version", "zip", "plz", "postcode", "channel", "vlan", "group", "from",
"to", "#", "°")  # fmt: skip  # headings of what is a name, though it is written in digits
COUNTERS = ("counter", "meter", "reading", "zahler", "zahlerstand", "compteur", "contador", "contatore", "licznik")
ALONE = ("call", "case", "order", "entry", "session")  # headings of an identity, where they are the whole of one
UNITS = {  # form of a length -> words of headings that name its unit
    "milliseconds": ("ms", "msec", "msecs", "millis", "milliseconds"),
    "seconds": ("s", "sec", "secs", "seconds", "billsec", "sekunden", "segundos", "secondes", "secondi", "seconden"),
    "minutes": ("min", "mins", "minutes", "minuten", "minutos", "minuti", "minuty"),
    "hours": ("h", "hr", "hrs", "hours", "stunden", "std", "heures", "horas", "ore", "uren", "godziny"),
}
YES = ("true", "yes", "y", "1", "ja", "j", "oui", "o", "si", "sim", "s", "tak", "t", "x")
ACTUAL = ("actual", "actually", "real", "ist", "tatsachlich", "reel", "effettivo", "werkelijk")
PLANNED = ("planned", "plan", "scheduled", "schedule", "rostered", "roster", "expected", "target", "soll",
"geplant", "prevu", "previsto", "gepland")  # fmt: skip  # headings of times that were meant, beside those that were
COMES = ("in", "kommen", "entrada", "entree", "arrivee", "entrata", "aankomst", "wejscie")
GOES = ("out", "gehen", "salida", "saida", "sortie", "uscita", "vertrek", "wyjscie")
BREAK = ("break", "lunch", "pause", "pausa", "mittag", "mittagspause", "descanso", "pauze", "przerwa")
TOTAL = ("total", "sum", "worked", "hours", "duration", "balance", "overtime", "summe", "gesamt", "arbeitszeit",
"soll", "saldo", "totale", "totaal", "razem")  # fmt: skip  # headings of what clock times add up to
NO = ("false", "no", "n", "0", "nein", "non", "nao", "nee", "nie", "f")
COLOUR = (("color", "colour", "c", "farbe", "farbig", "couleur", "colore", "kleur", "kolor", "not grayscale",
"not greyscale"), ("mono", "monochrome", "m", "black", "bw", "b/w", "grayscale", "greyscale", "schwarzweiss", "sw",
"s/w", "grau", "n&b", "black and white"))  # fmt: skip

ELSEWHERE = {  # field -> words of headings: German, French, Spanish, Portuguese, Italian, Dutch, Polish
    "start": (
        "beginn", "anfang", "zeitstempel", "zeit", "uhrzeit", "datum", "debut", "horodatage", "heure", "inicio",
        "hora", "fecha", "data",
        "inizio", "ora", "tijdstip", "tijd", "begin", "poczatek", "czas", "godzina",
    ),
    "finish": ("ende", "bis", "fin", "hasta", "fim", "fine", "einde", "tot", "koniec", "do", "endzeit"),
    "duration": ("gesprachsdauer", "dauer", "stunden", "sekunden", "duree", "duracion", "duracao", "durata", "duur",
    "heures", "horas", "ore", "uren", "godziny", "czas trwania"),
    "user": (
        "karte", "ausweis", "benutzer", "nutzer", "mitarbeiter", "person", "nebenstelle", "carte", "utilisateur",
        "employe", "poste", "tarjeta",
        "usuario", "empleado", "extension", "cartao", "funcionario", "ramal", "tessera", "utente", "dipendente",
        "interno", "pas", "kaart",
        "gebruiker", "medewerker", "toestel", "karta", "uzytkownik", "pracownik", "numer wewnetrzny",
        "personal", "nachname", "nom",
    ),
    "device": (
        "tur", "leser", "drucker", "gerat", "rechner", "porte", "lecteur", "imprimante", "appareil", "puerta",
        "lector", "impresora", "equipo",
        "porta", "leitor", "impressora", "lettore", "stampante", "deur", "lezer", "apparaat", "drzwi", "czytnik",
        "drukarka", "urzadzenie",
    ),
    "place": ("bereich", "raum", "ort", "gebaude", "standort", "lieu", "salle", "batiment", "zona", "sala", "lugar",
    "edificio", "local", "luogo", "ruimte", "gebouw", "miejsce", "budynek"),
    "action": ("ereignis", "aktion", "vorgang", "buchungsart", "evenement", "statut", "evento", "accion", "estado",
    "acao", "azione", "stato", "gebeurtenis", "actie", "zdarzenie", "akcja"),
    "outcome": ("ergebnis", "resultat", "resultado", "risultato", "esito", "resultaat", "wynik"),
    "other": ("rufnummer", "nummer", "ziel", "numero", "numer", "cel", "bestemming", "destino", "destinazione"),
}  # fmt: skip
SIGNS_ELSEWHERE = {  # kind -> words of headings that speak for it
    "door access": ("tur", "leser", "karte", "ausweis", "zutritt", "porte", "badge", "puerta", "tarjeta", "cartao",
    "tessera", "deur", "drzwi", "czytnik"),
    "calls": ("anruf", "nebenstelle", "rufnummer", "gesprach", "appel", "poste", "llamada", "chamada", "ramal",
    "chiamata", "interno", "gesprek", "toestel", "polaczenie"),
    "printing": ("drucker", "seiten", "kopien", "imprimante", "impresora", "paginas", "stampante", "pagine", "afdruk",
    "drukarka", "stron"),
    "time entries": ("empleado", "mitarbeiter", "dipendente", "medewerker", "pracownik", "schicht", "turno", "projekt",
    "stunden", "tatigkeit", "projet", "heures", "proyecto", "horas", "progetto", "ore",
    "uren", "godziny"),
}  # fmt: skip
DENIES = re.compile(
    r"\b(?:no|not|non|nicht|kein\w*|sans|pas|nao|sin|nie|niet|geen|un\w*ed|without)\b"
)  # turns a word around
GOOD = ("in", "out", "granted", "answered", "printed", "login")  # words that a value which denies does not mean
REFUSED = (
    r"verweiger|abgelehn|abgewies|denied|refus|reject|declin|denegad|negad|negat|rifiutat|geweiger|odmow|not "
    r"allowed|no access|invalid|unknown card|unbekannt|gesperrt|blocked|expired|abgelaufen|bloque"
)
ACTIONS = {  # kind -> word of the kind -> how values say it, the surest first
    "door access": {
        "refused": REFUSED,
        "forced": r"forced|aufgebrochen|forcee?|forzad|forcad|forzat|geforceerd|wylaman",
        "held open": r"held open|too long|offen gehalten|zu lange|maintenue ouverte|tenuta aperta",
        "unlocked": r"unlock|entriegelt", "locked": r"\block|verriegelt", "closed": r"clos|geschlossen",
        "fault": r"fault|tamper|storung|sabotage|battery",
        "out": r"\bout\b|\bexit|austritt|ausgang|^aus$|sortie|salida|saida|uscita|uitgang|wyjscie|\bgehen\b",
        "in": r"\bin\b|\bentry|\bentrance|eintritt|eingang|^ein$|entree|entrada|ingresso|entrata|ingang|wejscie"
        r"|\bkommen\b",
        "granted": r"grant|permit|gewahrt|erteilt|zutritt|accept|accord|autoris|permitid|concedid|consentit|toegestaan"
        r"|verleend|przyznan|allowed|\bok\b|valid",
        "alarm": r"alarm",
    },
    "calls": {
        "missed": r"no ?ans(?:wer)?\b|not answered|unanswered|missed|verpasst|nicht angenommen|manque|sans "
                  r"reponse|perdid|nao atendid|persa|gemist|nieodebran",
        "busy": r"busy|besetzt|occup|ocupad|bezet|zajet",
        "failed": r"fail|congestion|cancel|error|fehl|echec|fallid|falhou|mislukt|nieudan",
        "voicemail": r"voice ?mail|mailbox|anrufbeantworter|messagerie|buzon|segreteria",
        "diverted": r"divert|forward|transfer|weitergeleitet|umgeleitet|transfer|desviad|doorgeschakeld",
        "answered": r"answer|\bans\b|angenommen|beantwortet|repondu|contestad|atendid|rispost|beantwoord|odebran"
        r"|complet|\bok\b",
    },
    "printing": {
        "cancelled": r"cancel|abgebrochen|storniert|annul|cancelad|annullat|geannuleerd|anulowan",
        "failed": r"fail|error|fehl|echec|fallid|errore|mislukt|blad",
        "refused": REFUSED,
        "held": r"held|hold|angehalten|en attente|retenid|in attesa|vastgehouden|wstrzyman",
        "printed": r"print|complet|gedruckt|fertig|imprime|impres|stampat|afgedrukt|wydrukowan|\bok\b|done",
    },
    "changes": {
        "revoked": r"revok|entzogen|revoqu", "granted": r"grant|erteilt",
        "deleted": r"delet|remov|gelosch|entfern|supprim|elimin|borrad|verwijder|usunie|cancellat",
        "enabled": r"enabl|^activat|unlock|unblock|entsperr|reactiv|aktiviert",
        "disabled": r"disabl|deactivat|block|\block|gesperrt|deaktiv|desactiv",
        "created": r"creat|\badd|insert|issued|angelegt|erstell|hinzu|cree|ajout|anadi|aggiun|aangemaakt|utworz",
        "changed": r"updat|chang|modif|edit|renam|\bset\b|geandert|cambi|alterad|gewijzigd|zmien",
    },
    "credit movements": {
        "opening": r"opening|carried|anfang", "refund": r"refund|erstatt|rembours",
        "correction": r"correct|adjust|korrektur",
        "credit": r"credit|top.?up|deposit|gutschrift|aufladung", "debit": r"debit|charge|spent|belastung|abbuchung",
    },
    "logins": {
        "failed": r"fail|fehl|echec|fallid|mislukt|^4625$|" + REFUSED,  # numbers: of a system's events
        "locked": r"^4800$", "unlocked": r"^4801$",
        "logout": r"^(?:4634|4647)$|log(?:ged)? ?(?:out|off)|abmeld|deconnexion|cierre|saida|disconnessione|afmeld"
        r"|wylogowan|closed|disconnect",
        "login": r"^4624$|log(?:ged)? ?(?:in|on)|anmeld|connexion|inicio de sesion|accesso|aanmeld|zalogowan|accept"
        r"|opened|connect",
    },
}  # fmt: skip
WAYS = {  # direction of a call -> how values say it
    "in": r"^i$|^in\b|incoming|inbound|eingehend|entrant|entrante|in entrata|inkomend|przychodz|recebid",
    "out": r"^o$|^out\b|outgoing|outbound|ausgehend|sortant|saliente|in uscita|uitgaand|wychodz|efetuad",
    "internal": r"^intern",
}
