"""Names that do not say their encoding: twenty-five languages in the encodings that their packers wrote."""

import os
import unittest
from unittest import mock

from usufruct.archives.names import encoding_for
from usufruct.archives.readings import DOS, readings_of

NAMES = {
    "cp437 cp850 cp1252": [
        "Grüner Schleier.gel",
        "Wölfe im Nebel.gel",
        "Dämmerung.gel",
        "Weiße Straße.gel",
        "Käuzchen.gel",
    ],
    "cp850 cp437 cp1252 mac_roman": [
        "Crépuscule doré.gel",
        "Forêt enneigée.png",
        "Lumière à côté.gel",
        "Été brûlant.gel",
        "Hibou.gel",
    ],
    "cp850 cp1252": ["Niño y búho.gel", "Mañana fría.gel", "Corazón.gel", "Jardín pequeño.gel", "Árbol.gel"],
    "cp860 cp850 cp1252 ": [
        "Coração.gel",
        "Manhã de verão.gel",
        "Avô e avó.gel",
        "Estações.gel",
        "Pôr do sol às três.gel",
    ],
    "cp850 cp1252  ": ["Perché no.gel", "Città di notte.gel", "Caffè.gel", "Già più luce.gel", "Martedì.gel"],
    "cp850 cp865 cp1252": ["Grøn måne.gel", "Ænder på søen.gel", "Rød ræv.gel", "Blå sløjfe.gel", "Træ.gel"],
    "cp850 cp1252   ": ["Blå måne.gel", "Räv i snö.gel", "Älg på ängen.gel", "Höst.gel", "Skön kväll.gel"],
    "cp861 cp1252": ["Ísland.gel", "Fjöður.gel", "Þoka í dal.gel", "Ævintýri.gel", "Köttur á þaki.gel"],
    "cp852 cp1250 iso8859_2": ["Księżyc.gel", "Źrebię.gel", "Łódź nocą.gel", "Żółty liść.gel", "Ćma.gel"],
    "cp852 cp1250": ["Měsíc.gel", "Žlutý kůň.gel", "Příliš tmavý les.gel", "Řeka.gel", "Čáp.gel"],
    "cp852 cp1250 ": ["Őszi erdő.gel", "Hűvös este.gel", "Bagoly és hold.gel", "Fényjáték.gel", "Tükör.gel"],
    "cp852 cp1250  ": ["Žuti mjesec.gel", "Čaplja.gel", "Šuma noću.gel", "Kuća i đak.gel", "Crvena ruža.gel"],
    "cp857 cp1254": ["Işık.gel", "Gümüş ağaç.gel", "Kırmızı gökyüzü.gel", "Çiçek.gel", "Şafak.gel"],
    "cp775 cp1257": ["Mėnulis.gel", "Žalias šilas.gel", "Paukščių takas.gel", "Ąžuolas.gel", "Rūkas.gel"],
    "cp775 cp1257 ": ["Mēness.gel", "Zaļā pļava.gel", "Ķiršu zieds.gel", "Rītausma.gel", "Šūpoles.gel"],
    "cp866 cp1251 koi8_r": ["Лунная ночь.gel", "Сова.gel", "Тёмный лес.gel", "Река.gel", "Старый театр.gel"],
    "cp1251 koi8_u": ["Місячна ніч.gel", "Сова.gel", "Темний ліс.gel", "Їжак.gel", "Старий театр.gel"],
    "cp1251": ["Лунна нощ.gel", "Бухал.gel", "Тъмна гора.gel", "Река.gel", "Стар театър.gel"],
    "cp737 cp1253": ["Φεγγάρι.gel", "Κουκουβάγια.gel", "Σκοτεινό δάσος.gel", "Ποτάμι.gel", "Θέατρο σκιών.gel"],
    "cp862 cp1255": ["ירח מלא.gel", "ינשוף.gel", "יער אפל.gel", "נהר.gel", "תיאטרון צללים.gel"],
    "cp720 cp1256": ["القمر.gel", "بومة.gel", "غابة مظلمة.gel", "نهر.gel", "مسرح الظل.gel"],
    "cp874": ["พระจันทร์.gel", "นกฮูก.gel", "ป่ามืด.gel", "แม่น้ำ.gel", "โรงละคร.gel"],
    "cp932 euc_jp": ["月の夜.gel", "ふくろう.gel", "暗い森.gel", "影絵の劇場.gel", "カワセミ.gel"],
    "gb18030": ["月夜.gel", "猫头鹰.gel", "黑暗的森林.gel", "河流.gel", "皮影戏.gel"],
    "big5": ["月夜.gel", "貓頭鷹.gel", "黑暗的森林.gel", "河流.gel", "皮影戲.gel"],
    "cp949": ["달밤.gel", "부엉이.gel", "어두운 숲.gel", "강물.gel", "그림자 극장.gel"],
}
"""Encodings, with names in one language; spaces at the end tell languages apart that have the same."""


@mock.patch.dict(os.environ, {"LC_ALL": "C", "LANG": ""})
class NamesGuessTest(unittest.TestCase):
    def test_five_names_are_read_right_or_asked_about_and_never_silently_wrong(self) -> None:
        asked = sets = 0
        for encodings, names in NAMES.items():
            for encoding in encodings.split():
                with self.subTest(names[0], encoding=encoding):
                    raw = [one for one in (name.encode(encoding) for name in names) if not one.isascii()]
                    guess = encoding_for(raw, None, is_from_dos=encoding in DOS)
                    read = [[one.decode(each) for one in raw] for each in (guess.encoding, guess.rival) if each]
                    self.assertIn([one.decode(encoding) for one in raw], read)
                    sets, asked = sets + 1, asked + bool(guess.rival)
        self.assertLessEqual(asked / sets, 0.04)

    def test_names_whose_last_byte_is_that_of_a_backslash_are_whole(self) -> None:
        """They lost it once, as if it ended a directory's name, and then no reading in their encoding was left."""
        for encoding, names in (("cp932", ["影の表", "夜のソ"]), ("big5", ["月夜的功", "皮影成功"])):
            guess = encoding_for([name.encode(encoding) for name in names], None, is_from_dos=True)
            self.assertEqual([name.encode(encoding).decode(guess.encoding) for name in names], names)

    def test_letters_stand_where_their_language_writes_them(self) -> None:
        """These packs were asked about or read in the second encoding: one letter fits another language as well."""
        for encoding, before, names in (
            ("cp850", "cp852", "MONOFTONGÀS Alforraríem DESCENDIRÀ cabridaré"),
            ("cp1252", "cp1250", "assaïnassin dissimularé ESVALOTÉS agenollés"),
            ("cp1252", "cp1250", "DROGARÍEU TROBARÍEU mestrejarà cobegésseu"),
            ("cp1252", "cp1250", "esmotxaríeu dímetre esbromaríeu glotó aviciàveu"),
            ("cp1252", "cp1257", "dáárvoor Australië Oriëntatie náást Georgiërs fantasieën enquête"),
            ("cp1252", "cp1250", "Desajeitaríeis EMBARRANCÁREIS REMODELÁ camaleões ENCRAVÁSSEIS"),
            ("cp860", "cp437", "esguichásseis prometíeis atulhá vangloriámos raivecerão"),
            ("cp860", "cp437", "irmãs capitãs avelãs mistificarás"),
            ("cp860", "cp437", "aventásseis FREGUÊS Aluídas fungáveis"),
            ("cp1250", "cp1252", "mustăcios Detentă Rerăsărire maltază"),
            ("cp1250", "cp1252", "MERŐLEGES srí Alél hazafelé CM2-RÉ"),
            ("cp852", "cp437", "kiégetés borkövek CHEÉ tőlem"),
        ):
            with self.subTest(names):
                raw = [name.encode(encoding) for name in names.split() if not name.isascii()]
                guess = encoding_for(raw, None, is_from_dos=encoding in DOS)
                self.assertEqual([name.decode(guess.encoding) for name in raw], [name.decode(encoding) for name in raw])
                self.assertEqual(guess.rival, "")
                self.assertNotEqual([name.decode(before) for name in raw], [name.decode(encoding) for name in raw])

    def test_of_few_names_more_is_asked(self) -> None:
        """With one letter to go by, a difference that decides among many names is no reason to ask nobody."""
        names = [name.encode("cp1252") for name in ("Käuzchen.gel", "Dämmerung.gel", "Lärche.gel")]
        self.assertEqual(encoding_for(names[:1], None).rival, "cp852")
        self.assertEqual(encoding_for(names, None).rival, "")

    def test_of_one_letter_that_is_read_otherwise_more_is_asked(self) -> None:
        """All the other letters fit both, and say nothing; this pack was read as if it were Slovak."""
        names = "PASSIVÁRAMOS Enganaríamos cascássemos DESENRAIVECÊRAMOS feriásseis asneáramos AMNÉSIAS ZOMBÁVAMOS"
        guess = encoding_for([name.encode("cp850") for name in names.split()], None, is_from_dos=True)
        self.assertEqual({guess.encoding, guess.rival}, {"cp850", "cp852"})

    def test_two_readings_that_are_about_as_likely_are_both_told(self) -> None:
        guess = encoding_for([b"Engali\x85.gel"], None, is_from_dos=True)
        self.assertEqual(guess.examples, (("Engalià.gel", "Engaliů.gel"),))

    def test_the_users_own_language_decides_where_little_else_does(self) -> None:
        raw = ["Caffè.gel".encode("cp1252")]
        with mock.patch.dict(os.environ, {"LC_ALL": "it_IT.UTF-8"}):
            self.assertEqual(encoding_for(raw, None).encoding, "cp1252")

    def test_what_no_name_has_is_no_reading(self) -> None:
        found = readings_of([b"G\x81te\x99.gel"], is_from_dos=True)
        self.assertNotIn("cp1252", [reading.encoding for reading in found])
        boxes = readings_of(["Ночь".encode("cp866")], is_from_dos=True)
        self.assertTrue(all(not 0x2500 <= ord(char) <= 0x259F for one in boxes for name in one.names for char in name))


if __name__ == "__main__":
    unittest.main()
