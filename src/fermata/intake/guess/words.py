"""Words of headings and values in the languages that exports come in, without accents and in small letters."""

from __future__ import annotations

import re

__all__ = ["ACTIONS", "DENIES", "ELSEWHERE", "GOOD", "SIGNS_ELSEWHERE", "WAYS"]

ELSEWHERE = {  # field -> words of headings: German, French, Spanish, Portuguese, Italian, Dutch, Polish
    "start": (
        "beginn", "anfang", "zeitstempel", "zeit", "uhrzeit", "datum", "debut", "horodatage", "heure", "inicio",
        "hora", "fecha", "data",
        "inizio", "ora", "tijdstip", "tijd", "begin", "poczatek", "czas", "godzina",
    ),
    "finish": ("ende", "bis", "fin", "hasta", "fim", "fine", "einde", "tot", "koniec", "do"),
    "duration": ("dauer", "gesprachsdauer", "sekunden", "duree", "duracion", "duracao", "durata", "duur",
    "czas_trwania"),
    "user": (
        "karte", "ausweis", "benutzer", "nutzer", "mitarbeiter", "person", "nebenstelle", "carte", "utilisateur",
        "employe", "poste", "tarjeta",
        "usuario", "empleado", "extension", "cartao", "funcionario", "ramal", "tessera", "utente", "dipendente",
        "interno", "pas", "kaart",
        "gebruiker", "medewerker", "toestel", "karta", "uzytkownik", "pracownik", "numer_wewnetrzny",
    ),
    "device": (
        "tur", "leser", "drucker", "gerat", "rechner", "porte", "lecteur", "imprimante", "appareil", "puerta",
        "lector", "impresora", "equipo",
        "porta", "leitor", "impressora", "lettore", "stampante", "deur", "lezer", "apparaat", "drzwi", "czytnik",
        "drukarka", "urzadzenie",
    ),
    "place": ("bereich", "raum", "ort", "gebaude", "standort", "lieu", "salle", "batiment", "zona", "sala", "lugar",
    "edificio", "local", "luogo", "ruimte", "gebouw", "miejsce", "budynek"),
    "action": ("ereignis", "aktion", "vorgang", "evenement", "statut", "evento", "accion", "estado", "acao", "azione",
    "stato", "gebeurtenis", "actie", "zdarzenie", "akcja"),
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
    "time entries": ("projekt", "stunden", "tatigkeit", "projet", "heures", "proyecto", "horas", "progetto", "ore",
    "uren", "godziny"),
}  # fmt: skip
DENIES = re.compile(
    r"\b(?:no|not|non|nicht|kein\w*|sans|pas|nao|sin|nie|niet|geen|un\w*ed|without)\b"
)  # turns a word around
GOOD = ("in", "out", "granted", "answered", "printed", "login")  # words that a value which denies does not mean
REFUSED = (
    r"verweiger|abgelehn|abgewies|denied|refus|reject|declin|denegad|negad|negat|rifiutat|geweiger|odmow|not "
    r"allowed|no access|invalid|unknown card|unbekannt"
)
ACTIONS = {  # kind -> word of the kind -> how values say it, the surest first
    "door access": {
        "refused": REFUSED,
        "forced": r"forced|aufgebrochen|forcee?|forzad|forcad|forzat|geforceerd|wylaman",
        "held open": r"held open|too long|offen gehalten|zu lange|maintenue ouverte|tenuta aperta",
        "out": r"\bout\b|\bexit|austritt|ausgang|sortie|salida|saida|uscita|uitgang|wyjscie|\bgehen\b",
        "in": r"\bin\b|\bentry|\bentrance|eintritt|eingang|entree|entrada|ingresso|entrata|ingang|wejscie|\bkommen\b",
        "granted": r"grant|gewahrt|erteilt|accept|accord|autoris|permitid|concedid|consentit|toegestaan|verleend"
        r"|przyznan|allowed|\bok\b|valid",
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
        r"|\bok\b",
    },
    "printing": {
        "cancelled": r"cancel|abgebrochen|storniert|annul|cancelad|annullat|geannuleerd|anulowan",
        "failed": r"fail|error|fehl|echec|fallid|errore|mislukt|blad",
        "refused": REFUSED,
        "held": r"held|hold|angehalten|en attente|retenid|in attesa|vastgehouden|wstrzyman",
        "printed": r"print|complet|gedruckt|fertig|imprime|impres|stampat|afgedrukt|wydrukowan|\bok\b|done",
    },
    "logins": {
        "failed": r"fail|fehl|echec|fallid|mislukt|" + REFUSED,
        "logout": r"log ?(?:out|off)|abmeld|deconnexion|cierre|saida|disconnessione|afmeld|wylogowan|closed|disconnect",
        "login": r"log ?(?:in|on)|anmeld|connexion|inicio de sesion|accesso|aanmeld|zalogowan|accept|opened|connect",
    },
}  # fmt: skip
WAYS = {  # direction of a call -> how values say it
    "in": r"^i$|^in\b|incoming|inbound|eingehend|entrant|entrante|in entrata|inkomend|przychodz|recebid",
    "out": r"^o$|^out\b|outgoing|outbound|ausgehend|sortant|saliente|in uscita|uitgaand|wychodz|efetuad",
    "internal": r"^intern",
}
