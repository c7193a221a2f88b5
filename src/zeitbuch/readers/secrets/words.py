# The words that tell a secret by its name, in the languages that exports are written in. A row is a language; a workspace adds
# words of its own. What the words mean for a name is decided in names.py.
"""Words in the names of secrets."""

from __future__ import annotations

from msgspec import Struct


class SecretWords(Struct, frozen=True, forbid_unknown_fields=True):
    """What a workspace says of names: ``secret`` words name a secret, ``harmless`` ones never do."""

    secret: tuple[str, ...] = ()
    harmless: tuple[str, ...] = ()


# Words that name a secret wherever they end a name. Compared in lower case without accents; a word of six letters or more also at the
# end of a longer one (German, Dutch and the Nordic languages write such words together).
SECRET_WORDS: dict[str, str] = {
    "english": (
        "password passwords passwd passphrase passphrases passcode passcodes pwd pw pass secret secrets token tokens pin pins "
        "pincode otp totp jwt cookie cookies authorization apikey apikeys apitoken accesskey secretkey privatekey "
        "authkey authtoken accesstoken refreshtoken mnemonic userpass bearer"
    ),
    "german": "passwort passworter kennwort kennworter losungswort geheimnis geheimnisse geheimzahl zugangscode zugangsschlussel",
    "french": "motdepasse motsdepasse mdp jeton jetons phrasesecrete codesecret",
    "spanish": "contrasena contrasenas contrasenia clavesecreta secreto secretos palabraclave clavedeacceso claveapi",
    "portuguese": "senha senhas segredo segredos palavrapasse palavrachave chavesecreta chavedeacesso chaveapi",
    "italian": "parolachiave segreto segreti chiavesegreta chiavediaccesso chiaveapi parolad'ordine paroladordine codicesegreto",
    "dutch": "wachtwoord wachtwoorden geheim geheimen toegangscode wachtzin pincode",
    "swedish": "losenord losenordet hemlighet losenfras atkomstnyckel",
    "danish": "adgangskode adgangskoder hemmelighed kodeord adgangsnogle",
    "norwegian": "passord hemmelighet adgangsnokkel tilgangsnokkel",
    "finnish": "salasana salasanat salaisuus salalause tunnusluku",
    "polish": "haslo hasla sekret sekrety kluczapi kluczdostepu",
    "czech": "heslo hesla tajemstvi tajnyklic apiklic",
    "hungarian": "jelszo jelszavak titok titkoskulcs",
    "romanian": "parola parole secretul cheiesecreta",
    "turkish": "sifre sifreler parola gizlianahtar",
    "estonian and latvian": "salasona parool paroles",
    "indonesian": "katasandi sandi",
    "vietnamese": "matkhau",
    "russian": "пароль пароли секрет секреты токен токены пинкод ключдоступа ключapi",
    "ukrainian": "пароль пароли таємниця секрет токен ключдоступу",
    "bulgarian": "парола тайна",
    "croatian and serbian": "lozinka zaporka sifra лозинка",
    "greek": "κωδικος κωδικοσπροσβασης συνθηματικο μυστικο",
    "hebrew": "סיסמה סיסמא סוד",
    "arabic": "كلمةالمرور كلمةالسر كلمةمرور كلمةسر رمزالدخول",
    "hindi": "पासवर्ड कूटशब्द",
    "chinese": "密码 密碼 口令 密钥 密鑰 令牌 私钥 私鑰 通行码",
    "japanese": "パスワード 暗証番号 秘密鍵 トークン シークレット パスフレーズ 合言葉 apiキー アクセスキー",
    "korean": "비밀번호 암호 토큰 비밀키 패스워드 api키",
    "thai": "รหัสผ่าน",
}

# Words that may mean a secret or a plain word: only a value that looks like a secret is one.
AMBIGUOUS = frozenset(
    "parola parole clave sandi κωδικος тайна geheim geheimen secreto segreto segredo titok jeton jetons parool sod סוד sekret".split()
)
# "pass" and "pin" are plain words too, but for one alone or behind one of these.
PASS_OF = frozenset(
    (
        "db database user smtp mail ftp sftp ssh admin root login sudo my auth server proxy http basic sql pg redis account client ldap imap "
        "wifi key service desk app api"
    ).split()
)
PIN_OF = frozenset("card user door access security sim device unlock admin my code phone customer account".split())
# "key" names a secret behind one of these: "api key", "clé d'accès", "Zugriffsschlüssel".
KEY_WORDS = frozenset(
    "key keys schlussel cle cles clave llave chave chiave sleutel nyckel nogle nokkel avain klucz klic kulcs cheie anahtar ключ keypass".split()
)
KEYS_OF = frozenset(
    (
        "api access private secret signing client account shared encryption master auth subscription service consumer app "
        "application license licence ssh webhook hmac decryption storage session security deploy admin root authorization "
        "authentication activation recovery rsa pgp gpg ssl tls cipher crypto symmetric integration "
        "zugriffs zugangs zugriff zugang privater geheimer acces privee secrete acceso privada secreta acesso segreta privata accesso "
        "toegangs geheime privat privata dostepu prywatny tajny tajna pristupovy soukromy ozel gizli erisim доступа закрытый секретный"
    ).split()
)
# Two words that together name a secret, in the order they stand.
PAIRS = frozenset(
    (
        "pass phrase|pass word|pass code|pin code|pin number|connection string|connect string|seed phrase|recovery phrase|recovery code|"
        "recovery codes|backup code|backup codes|set cookie|mot passe|mot de passe|phrase secrete|palabra clave|palavra passe|palavra chave|"
        "parola chiave|kata sandi|mat khau|парольная фраза|access code|security code|verification code|unlock code|personal number|"
        "one time code|door code|signing certificate|shared signature|access signature|code secret|codice segreto|كلمة المرور|كلمة السر|"
        "κωδικος προσβασης|ключ доступа|ключ api|รหัส ผ่าน"
    ).split("|")
)
# Names whose parts are secret unless they are named in PLAIN_PARTS: what holds a way to log in.
HOLDERS = frozenset(
    (
        "auth authentication credential credentials creds cred login logins secrets passwords tokens apikeys cookies zugangsdaten "
        "anmeldung anmeldedaten identifiants credenciales credenciais credenziali inloggegevens inloggning uwierzytelnianie poswiadczenia "
        "prihlaseni hitelesites kimlik учетныеданные доступы 凭据 凭证 認証情報 인증정보"
    ).split()
)
# A name that ends in one of these speaks of a secret and holds none: "password policy", "token url", "secret name".
SPEAKS_OF = frozenset(
    (
        "policy policies url uri urls name names id ids type types length count counts limit limits field fields label hint placeholder reset "
        "expiry expires expiration expire ttl min max minimum maximum required enabled disabled endpoint path file filename folder "
        "parameter param header headers location format prefix suffix rule rules strength usage budget size cost costs price prices "
        "total totals used window ref refs reference references description title prompt prompts input output source store vault "
        "manager provider method rotation date at age changed updated created link page form step steps flow kind scope scopes status state "
        "valid error errors message messages attempts retries encoding algorithm alg issuer audience template version index position order "
        "visible hide show mode check validation validator pattern regex question help counter email mail user username owner role roles "
        "count_ per rate quota tracker model bucket family tokenizer counting lifetime refresh interval days hours minutes seconds "
        "table column sheet variable var env service server host domain category group set list map mapping config configuration settings "
        "options option requirement requirements generator generation request response handler screen view dialog button icon consent banner "
        "notice forgot change recovery available present exists missing needed provided given supported"
    ).split()
)
# Words before it that make tokens a quantity, and a password one of a rule: "max tokens", "min password".
COUNTED = frozenset(
    (
        "max min maximum minimum total input output prompt completion used num number count per context budget stop special pad eos bos cached "
        "reasoning avg average estimated remaining limit response request thinking mean median sum n expected actual daily monthly"
    ).split()
)
# First words that make the name a question or a rule: "has password", "require token".
ASKED = frozenset(
    "has is needs requires require use uses allow with without no show hide forgot include includes should can skip".split()
)
# First words that say nothing.
FILLERS = frozenset(
    "your the my a an our his her their its new old this that das der die dein mein ihr le la el il o tu su sua seu votre mon ma current".split()
)
# Words behind it that leave a name that of a secret: "password confirm", "token value". Any other makes it a weak one.
TAILS = frozenset(
    (
        "value values text data string plain raw hash confirm confirmation repeat again old new current prod dev test staging live base encrypted enc "
        "b64 base64 key secret token code word byte bytes hex password phrase primary secondary main default content"
    ).split()
)
# Beginnings that make the name one of an action when it holds an object: "get token", "check password".
ACTIONS = frozenset(
    (
        "get fetch refresh check validate ask reset send store create rotate verify request issue load read update revoke renew "
        "exchange obtain generate make parse decode encode set find test change enter confirm forgot login on if is handle call"
    ).split()
)
# An object with one of these is a part of the flow, whatever it is called.
FLOW_KEYS = frozenset(
    "next to target targets inputs outputs operation uses then steps nodes edges links children position transitions actions goto".split()
)
# What stands beside a secret and is none.
PLAIN_PARTS = frozenset(
    (
        "id name type kind label description title url uri method scheme header headers in scope scopes provider service user username login "
        "account email mail host hostname port path ref from environment env enabled required optional expires expiry ttl issued region "
        "realm domain tenant audience issuer client client_id clientid format algorithm alg mode flow grant granttype expiresin database db "
        "schema server protocol note comment notes owner owners role roles group version status state created updated changed position color "
        "icon folder display displayname connection step next target source operation uses does on off default_type required_by credentialtype credential_type "
        "credentialid location placement place prefix field fields parameter param query same_site samesite httponly secure max_age model language locale "
        "endpoint tokenurl token_url authorizationurl authorization_url baseurl base_url address website site "
        "utilisateur usuario usuário utente gebruiker benutzer benutzername nutzer anvandare bruker bruger kayttaja uzytkownik uzivatel "
        "пользователь имя логин 用户名 ユーザー名 사용자"
    ).split()
)
