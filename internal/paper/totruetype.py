from fontTools.ttLib import TTFont, newTable
from fontTools.pens.ttGlyphPen import TTGlyphPen
from fontTools.pens.cu2quPen import Cu2QuPen
import sys
f=TTFont(sys.argv[1])
gs=f.getGlyphSet()
order=f.getGlyphOrder()
glyphs={}
for n in order:
    pen=TTGlyphPen(None)
    gs[n].draw(Cu2QuPen(pen,1.0,reverse_direction=True))
    glyphs[n]=pen.glyph()
f["loca"]=newTable("loca"); g=f["glyf"]=newTable("glyf"); g.glyphOrder=order; g.glyphs=glyphs
del f["CFF "]
for t in ("GPOS","GSUB","VORG"):
    if t in f: del f[t]
g.compile(f)
m=f["maxp"]; m.tableVersion=0x00010000
m.maxZones=1; m.maxTwilightPoints=m.maxStorage=m.maxFunctionDefs=m.maxInstructionDefs=m.maxStackElements=m.maxSizeOfInstructions=0
m.maxComponentElements=0; m.maxPoints=m.maxContours=m.maxCompositePoints=m.maxCompositeContours=m.maxComponentDepth=0
m.compile(f)
p=f["post"]; p.formatType=3.0
f.sfntVersion="\000\001\000\000"
f.save(sys.argv[2])
