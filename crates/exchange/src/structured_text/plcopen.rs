//! Function blocks as a project in the XML of PLCopen (Technical Committee 6, XML formats for IEC 61131-3, version 2.01; elements from
//! memory), which engineering tools of several makes read.

use super::text::{Kind, Unit, Variable};
use antistasis_core::{Error, Result};
use quick_xml::Writer;
use quick_xml::events::{BytesDecl, BytesText, Event};
use std::io::Result as Written;

const NAMESPACE: &str = "http://www.plcopen.org/xml/tc6_0201";
const XHTML: &str = "http://www.w3.org/1999/xhtml";
/// The form asks for a time; that of the project is the same for the same trial.
const NO_TIME: &str = "1970-01-01T00:00:00";

type Xml = Writer<Vec<u8>>;

/// A project with these blocks; `remarks` are told in its header.
pub(super) fn project(name: &str, units: &[Unit], remarks: &[String]) -> Result<String> {
    let mut xml = Writer::new_with_indent(Vec::new(), b' ', 2);
    let written = write(&mut xml, name, units, remarks);
    let text = written.ok().and_then(|()| String::from_utf8(xml.into_inner()).ok());
    text.map(|text| text + "\n").ok_or_else(|| Error::said("name", "The blocks cannot be written as XML."))
}

fn write(xml: &mut Xml, name: &str, units: &[Unit], remarks: &[String]) -> Written<()> {
    xml.write_event(Event::Decl(BytesDecl::new("1.0", Some("utf-8"), None)))?;
    let project = xml.create_element("project").with_attributes([("xmlns", NAMESPACE), ("xmlns:xhtml", XHTML)]);
    project.write_inner_content(|xml| {
        let header = [
            ("companyName", ""),
            ("productName", "Antistasis"),
            ("productVersion", env!("CARGO_PKG_VERSION")),
            ("creationDateTime", NO_TIME),
        ];
        xml.create_element("fileHeader").with_attributes(header).write_empty()?;
        xml.create_element("contentHeader").with_attribute(("name", name)).write_inner_content(|xml| {
            if !remarks.is_empty() {
                xml.create_element("Comment").write_text_content(BytesText::new(&remarks.join("\n")))?;
            }
            xml.create_element("coordinateInfo").write_inner_content(|xml| {
                for language in ["fbd", "ld", "sfc"] {
                    xml.create_element(language).write_inner_content(|xml| {
                        xml.create_element("scaling").with_attributes([("x", "1"), ("y", "1")]).write_empty()?;
                        Ok(())
                    })?;
                }
                Ok(())
            })?;
            Ok(())
        })?;
        xml.create_element("types").write_inner_content(|xml| {
            xml.create_element("dataTypes").write_empty()?;
            xml.create_element("pous").write_inner_content(|xml| units.iter().try_for_each(|unit| block(xml, unit)))?;
            Ok(())
        })?;
        xml.create_element("instances").write_inner_content(|xml| {
            xml.create_element("configurations").write_empty()?;
            Ok(())
        })?;
        Ok(())
    })?;
    Ok(())
}

fn block(xml: &mut Xml, unit: &Unit) -> Written<()> {
    let pou = xml.create_element("pou").with_attributes([("name", unit.title.as_str()), ("pouType", "functionBlock")]);
    pou.write_inner_content(|xml| {
        xml.create_element("interface").write_inner_content(|xml| {
            let parts = [("inputVars", &unit.inputs), ("outputVars", &unit.outputs), ("localVars", &unit.locals)];
            for (kind, variables) in parts {
                let list = xml.create_element(kind);
                list.write_inner_content(|xml| variables.iter().try_for_each(|one| variable(xml, one)))?;
            }
            let constants = xml.create_element("localVars").with_attribute(("constant", "true"));
            constants.write_inner_content(|xml| unit.constants.iter().try_for_each(|one| variable(xml, one)))?;
            documentation(xml, &unit.heading)
        })?;
        xml.create_element("body").write_inner_content(|xml| {
            xml.create_element("ST").write_inner_content(|xml| paragraph(xml, &unit.body))?;
            Ok(())
        })?;
        Ok(())
    })?;
    Ok(())
}

fn variable(xml: &mut Xml, variable: &Variable) -> Written<()> {
    let element = xml.create_element("variable").with_attribute(("name", variable.name.as_str()));
    element.write_inner_content(|xml| {
        xml.create_element("type").write_inner_content(|xml| {
            let (plain, last) = match &variable.kind {
                Kind::Block(title) => {
                    xml.create_element("derived").with_attribute(("name", title.as_str())).write_empty()?;
                    return Ok(());
                }
                Kind::Whole => ("INT", None),
                Kind::Logical => ("BOOL", None),
                Kind::Real => ("LREAL", None),
                Kind::Wholes(last) => ("INT", Some(last)),
                Kind::Array(last) => ("LREAL", Some(last)),
            };
            let Some(last) = last else {
                xml.create_element(plain).write_empty()?;
                return Ok(());
            };
            xml.create_element("array").write_inner_content(|xml| {
                let bounds = [("lower", "0".to_owned()), ("upper", last.to_string())];
                let bounds = bounds.iter().map(|(name, value)| (*name, value.as_str()));
                xml.create_element("dimension").with_attributes(bounds).write_empty()?;
                xml.create_element("baseType").write_inner_content(|xml| {
                    xml.create_element(plain).write_empty()?;
                    Ok(())
                })?;
                Ok(())
            })?;
            Ok(())
        })?;
        if let Some(initial) = &variable.initial {
            xml.create_element("initialValue").write_inner_content(|xml| simple_value(xml, initial))?;
        }
        if !variable.values.is_empty() {
            xml.create_element("initialValue").write_inner_content(|xml| {
                xml.create_element("arrayValue").write_inner_content(|xml| {
                    variable.values.iter().try_for_each(|value| {
                        xml.create_element("value").write_inner_content(|xml| simple_value(xml, value))?;
                        Ok(())
                    })
                })?;
                Ok(())
            })?;
        }
        match &variable.comment {
            Some(comment) => documentation(xml, comment),
            None => Ok(()),
        }
    })?;
    Ok(())
}

fn simple_value(xml: &mut Xml, value: &str) -> Written<()> {
    xml.create_element("simpleValue").with_attribute(("value", value)).write_empty()?;
    Ok(())
}

fn documentation(xml: &mut Xml, text: &str) -> Written<()> {
    xml.create_element("documentation").write_inner_content(|xml| paragraph(xml, text))?;
    Ok(())
}

fn paragraph(xml: &mut Xml, text: &str) -> Written<()> {
    xml.create_element("xhtml:p").write_text_content(BytesText::new(text))?;
    Ok(())
}
