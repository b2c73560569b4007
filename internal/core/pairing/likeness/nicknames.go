package likeness

import "strings"

// A line is a name with what people of that name are called at home. One short
// form may belong to several names; two full names are never one for sharing
// it. The table is our own, written by hand, in folded letters.
const nicknames = `
abigail abby gail
adelaide addie heidi
albert al bert bertie
alejandro alex jandro ale
aleksandr alexandr sasha shura sanya alex
aleksandra alexandra ola sasha shura alex sandra
alexander alex al sandy xander sander sandro lex
alfred alf fred freddy
alfonso poncho fonso
amalia ama mali
anastasia nastya stasia ana
andreas andi andy dre
andrew andy drew
andrzej jedrek andrew
anna anya ania annie anja nan anka
anne annie nan nancy
anthony tony ant
antonio tono toni tonio tonino toninho
aikaterini katerina kaiti
arthur art artie
barbara barb babs basia barbie
beatriz bea bety triz
benjamin ben benny benji
bernard bernie bernd
carlos charly carlitos
carolina caro carol
caroline carrie caro line
catherine cathy kate katie cat kitty
charles charlie chuck chas carl
charlotte lottie charlie lotte
christina chris tina christie
christopher chris kit topher
concepcion concha conchita conchi
consuelo chelo
cornelis kees cor
cristina cris tina
daniel dan danny dani
david dave davy
deborah deb debbie
dimitrios dimitris mitsos jimmy
dmitriy dmitri dmitry dima mitya
dolores lola loli
domenico mimmo nico
dominik nik domi
dorothy dot dottie dolly
edward ed eddie ted ned teddy
eduardo edu lalo
eleni lena nitsa eleonora
elizabeth liz beth betty eliza lizzie libby elsie lisa
elisabeth lisa elli liesl lisl sissi betti babette
elzbieta ela
emanuel manu mano
emmanuel manu manny
enrique quique kike
ekaterina katya kate katyusha
erzsebet bozsi zsoka erzsi
eugenia genia jenny
evgeniy evgeny zhenya
federico fede
ferdinand ferdi nand
fernando nando fer
florian flo
francesco checco franco cesco
francisco paco pancho curro kiko fran chico
frederick fred freddie rick
frederik fred rik freek
friedrich fritz fred friedl
gabriel gabe gabi
gabriela gabi gaby
georgios giorgos george
georg schorsch jorg
gerald gerry jerry
gerard ger gerry
giovanni gianni vanni nino
giuseppe beppe peppe pino
gregory greg
grzegorz grzesiek greg
guadalupe lupe lupita
guillermo guille memo
gustavo gus tavo
harold harry hal
hans hansi hannes
heinrich heinz heini hein
hendrik henk rik hein
henry harry hank hal
ignacio nacho
ilya ilyusha
ioannis giannis yannis john
isabel isa chabela bel
isabella bella isa izzy
istvan pista pisti
ivan vanya
jacobus jaap koos jacob
jacqueline jackie
jakob jack jaki
james jim jimmy jamie jem
jan janek jasiek
janina janka nina
jeffrey jeff
jennifer jen jenny
jessica jess jessie
jesus chuy suso
joanna asia asha jo
joaquin quino kino
johannes hans hannes jo jan joop
john jack johnny jon
jonathan jon jonny nathan
jorge coque
jose pepe chepe ze zeca pepito
josef sepp beppo pepi jupp
joseph joe joey jo
jozsef jozsi
josephine jo josie fina
jozef joziek
joshua josh
juan juancho juanito
karl kalle carl
katarzyna kasia
katharina kathi kathe kati tina
katherine kate kathy katie kat kit kitty
konstantin kostya
konstantinos kostas kostis dinos
krzysztof krzysiek kris
lars lasse
laszlo laci
lawrence larry laurie
leonard len leo lenny
leticia leti
lorenzo enzo renzo
louis lou louie
ludwig lutz wiggerl
luigi gigi gino
luis lucho
magdalena magda lena leni
malgorzata gosia malgosia
manuel manolo manu manny lolo
marcelo chelo
margaret maggie meg peggy marge greta daisy madge
margarita marga rita
margarethe grete gretel greta
maria mia mitzi marie masha marusya mimi mariechen
maria-jose majo
marina mari
martin marty tin
martha marta patty
mary molly polly mamie
matthew matt
matthias matze hias mats
maximilian max maxl
mehmet memo
mercedes merche meche
michael mike mick mickey michi micha
mikhail misha
mikolaj mikolajek
mohammed mohamed mohammad muhammad muhammed muhamed mohd mo mehmed
nadezhda nadya
natalia natasha natalie nata
nathaniel nate nat
nicholas nick nicky nico
nikolai nikolay kolya
nikolaos nikos nick
nils nisse
olga olya
oleksandr sashko oles
panagiotis panos takis
patricia pat patty tricia trish
patrick pat paddy
pavel pasha
pedro perico
peter pete
petrus piet peer
philip phil pip
pilar pili
piotr piotrek
rafael rafa rafi
raymond ray
rebecca becky becca
ricardo richi cayo
richard rick dick rich ricky
robert rob bob bobby bert robbie
roberto beto rober
rodrigo rodri
ronald ron ronnie
rosario charo chayo
samuel sam sammy
sarah sally sadie
santiago santi yago chago
sebastian seb basti seba
sergey sergei seryozha
silvia sil
sofia sofi sonya
stanislaw staszek stas
stephen steve stevie
steven steve stevie
susan sue susie suzy
svetlana sveta
tadeusz tadek tadzio
tatiana tanya
teresa tere tess terry
theodor theo teo
theresa terry tess tessa resi
thomas tom tommy
timothy tim timmy
tomas tom tommy
ursula ulla uschi
valentina valya
vasiliy vasya
vasilios vasilis bill
victoria vicky tori
vicente chente
victor vic
virginia ginny ginger
vladimir volodya vova vlad
walter walt wally
wilhelm willi willy helm
willem wim pim
william will bill billy willy liam
wojciech wojtek
yelizaveta elizaveta liza
yuliya yulia julia yulya
yuriy yuri yura
zbigniew zbyszek
zsuzsanna zsuzsi
`

// calledBy maps every short form to the full names that it may stand for.
var calledBy = func() map[string][]string {
	m := map[string][]string{}
	for _, l := range strings.Split(nicknames, "\n") {
		words := strings.Fields(l)
		for i, w := range words {
			if i > 0 {
				m[w] = append(m[w], words[0])
			}
		}
	}
	return m
}()

// bornNames are the names that people are given, as far as the table knows.
var bornNames = func() map[string]bool {
	m := map[string]bool{}
	for _, l := range strings.Split(nicknames, "\n") {
		if words := strings.Fields(l); len(words) > 0 {
			m[words[0]] = true
		}
	}
	return m
}()
