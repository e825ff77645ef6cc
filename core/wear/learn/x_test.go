package learn
import ("testing";"fmt";"os";"encoding/csv";"strings")
func TestX(t *testing.T){
 rd:=func(f string)[][]string{ h,_:=os.Open(f); r,_:=csv.NewReader(h).ReadAll(); return r}
 a,b:=rd("/tmp/w/pm/snapshot.csv"),rd("/tmp/w/pm/worn.csv")
 var all,small []Cell
 for f:=range a[0]{ for i:=range a{ if i>0{ all=append(all,Cell{a[i][f],b[i][f]}); if !isASCII(a[i][f]) {small=append(small,Cell{asciiOnly(strings.ToLower,a[i][f]),b[i][f]})}}}}
 l:=LearnLetters(all)
 fmt.Println(l.Words()); if l!=nil {fmt.Println(l.to)}
 m:=mapped(small,strings.ToLower); fmt.Println(m!=nil); if m!=nil {fmt.Printf("%q %q\n",m.to,m.apply("Île d'Ys Øst"))}
 var col []Cell
 for i:=range a{ if i>0{col=append(col,Cell{a[i][1],b[i][1]})}}
 c:=Learn(col,l,2026); fmt.Println(c!=nil); if c!=nil{fmt.Println(c.Words(),c.Keeps)}
}
