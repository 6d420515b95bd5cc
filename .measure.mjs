import { parseSync } from '@swc/core'; import fs from 'node:fs'; import path from 'node:path';
const root=process.argv[2]; const files=fs.readdirSync(root+'/src',{recursive:true}).map(String).filter(f=>f.endsWith('.ts')&&!f.includes('kernels/wasm'));
let nn=0,as=0,any=0; const fns=[],sizes=[]; const rooms={};
for(const f of files){const text=fs.readFileSync(root+'/src/'+f,'utf8').replace(/^#!/,'//'); const buf=Buffer.from(text); const n=text.split('\n').filter(l=>l.trim()).length; sizes.push([n,f]); const r=path.dirname(f); (rooms[r]??=[]).push(n);
 const m=parseSync(text,{syntax:'typescript',target:'es2022'}); const base=m.span.start;
 // base may skip leading comments: find offset
 const probe=parseSync('x;'+'\n'+text,{syntax:'typescript',target:'es2022'}); const off=probe.span.start+3; const mod=probe;
 const line=p=>buf.subarray(0,p-off).toString().split('\n').length;
 const walk=(x,name)=>{ if(Array.isArray(x)){x.forEach(y=>walk(y,name));return;} if(!x||typeof x!=='object')return;
  let nm=name; if(x.type==='FunctionDeclaration')nm=x.identifier?.value; if(x.type==='ClassMethod'||x.type==='PrivateMethod')nm=x.key?.value; if(x.type==='VariableDeclarator')nm=x.id?.value??name; if(x.type==='Constructor')nm='constructor';
  if(x.type==='TsNonNullExpression')nn++; if(x.type==='TsAsExpression')as++; if(x.type==='TsKeywordType'&&x.kind==='any')any++;
  const fn=x.type==='FunctionDeclaration'||x.type==='ClassMethod'||x.type==='ArrowFunctionExpression'||x.type==='FunctionExpression'||x.type==='Constructor';
  if(fn){const node=x.function??x; const ps=(node.params??x.params??[]).length; const sp=node.span??x.span; if(sp) fns.push([line(sp.end)-line(sp.start)+1,ps,f+' '+nm,x.type]);}
  for(const k in x) if(k!=='span') walk(x[k],nm);
 }; walk(mod.body,'');
}
sizes.sort((a,b)=>a[0]-b[0]); console.log('files',files.length,'median',sizes[sizes.length>>1][0],'max',sizes.at(-1), 'lines',sizes.reduce((a,b)=>a+b[0],0));
console.log('non-null',nn,'as',as,'any',any);
fns.sort((a,b)=>b[0]-a[0]); console.log('over 50 lines',fns.filter(f=>f[0]>50).length); for(const f of fns.slice(0,+process.argv[3]||16))console.log(' ',f.slice(0,3).join(' '));
const many=fns.filter(f=>f[1]>4); console.log('params >4',many.length, 'max', Math.max(...fns.map(f=>f[1]))); for(const f of many.sort((a,b)=>b[1]-a[1]).slice(0,30))console.log('  ',f[1],f[2]);
const rr=Object.entries(rooms).map(([r,l])=>[l.length,l.reduce((a,b)=>a+b,0),r]).sort((a,b)=>b[0]-a[0]); console.log('rooms',rr.length); for(const r of rr.slice(0,10))console.log('  ',r.join(' '));
